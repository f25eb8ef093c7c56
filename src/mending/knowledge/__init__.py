"""What Mending knows, as TOML that a technician can write: facts, signs, causes, steps."""

from mending.knowledge.check import check_pack
from mending.knowledge.codes import Codes, Message, Stop, base_codes, load_codes
from mending.knowledge.load import base_pack, load_pack
from mending.knowledge.schema import SOMETHING_ELSE, UNKNOWN, Answer, Cause, Pack, Sign, Step, Visit

__all__ = [
    "SOMETHING_ELSE",
    "UNKNOWN",
    "Answer",
    "Cause",
    "Codes",
    "Message",
    "Pack",
    "Sign",
    "Step",
    "Stop",
    "Visit",
    "base_codes",
    "base_pack",
    "check_pack",
    "load_codes",
    "load_pack",
]
