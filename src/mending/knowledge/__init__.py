"""What Mending knows, as TOML that a technician can write: facts, signs, causes, steps."""

from mending.knowledge.check import check_pack
from mending.knowledge.load import base_pack, load_pack
from mending.knowledge.schema import SOMETHING_ELSE, UNKNOWN, Answer, Cause, Pack, Sign, Step, Visit

__all__ = [
    "SOMETHING_ELSE",
    "UNKNOWN",
    "Answer",
    "Cause",
    "Pack",
    "Sign",
    "Step",
    "Visit",
    "base_pack",
    "check_pack",
    "load_pack",
]
