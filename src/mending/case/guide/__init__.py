"""The conversation that leads through a case: what is asked next, and what an answer means.

What comes next follows from the record alone, so that a conversation that was cut off anywhere
goes on where it was.
"""

from mending.case.guide.leading import lead
from mending.case.guide.prompts import Prompt, PromptKind, StepCard
from mending.case.guide.replies import NOTES, Reply, ReplyKind, parse
from mending.case.guide.taking import come_back, note, passed_over, taken, taken_in_words
from mending.case.guide.wording import FIRST_WORDS

__all__ = [
    "FIRST_WORDS",
    "NOTES",
    "Prompt",
    "PromptKind",
    "Reply",
    "ReplyKind",
    "StepCard",
    "come_back",
    "lead",
    "note",
    "parse",
    "passed_over",
    "taken",
    "taken_in_words",
]
