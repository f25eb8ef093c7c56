"""What Mending knows, as TOML that a technician can write: facts, signs, causes, steps."""

from mending.knowledge.cards import PLACES, RELEASE, Card, HowTo, card_faults, how_to, lacking_cards
from mending.knowledge.codes import Codes, Message, Stop, base_codes, load_codes
from mending.knowledge.events import (
    EventKind,
    EventTable,
    NumberedRow,
    WordsRow,
    base_events,
    load_events,
)
from mending.knowledge.load import BASE_FOLDER, base_pack, check_folder, load_pack
from mending.knowledge.schema import (
    SOMETHING_ELSE,
    TOGETHER,
    UNKNOWN,
    Answer,
    Cause,
    Pack,
    Sign,
    Speech,
)
from mending.knowledge.steps import (
    Need,
    Precaution,
    ReportKind,
    Step,
    ToolReport,
    Visit,
    WhyNotRun,
    answers_of,
)

__all__ = [
    "BASE_FOLDER",
    "PLACES",
    "RELEASE",
    "SOMETHING_ELSE",
    "TOGETHER",
    "UNKNOWN",
    "Answer",
    "Card",
    "Cause",
    "Codes",
    "EventKind",
    "EventTable",
    "HowTo",
    "Message",
    "Need",
    "NumberedRow",
    "Pack",
    "Precaution",
    "ReportKind",
    "Sign",
    "Speech",
    "Step",
    "Stop",
    "ToolReport",
    "Visit",
    "WhyNotRun",
    "WordsRow",
    "answers_of",
    "base_codes",
    "base_events",
    "base_pack",
    "card_faults",
    "check_folder",
    "how_to",
    "lacking_cards",
    "load_codes",
    "load_events",
    "load_pack",
]
