"""What is asked, as values: one prompt at a time."""

from collections.abc import Mapping
from enum import StrEnum

import msgspec

from mending.knowledge import HowTo
from mending.model import Place, RepairId, Risk


class PromptKind(StrEnum):
    """What a prompt is about."""

    WORDS = "words"
    FACT = "fact"
    SIGN = "sign"
    STEP = "step"
    REPAIR = "repair"
    START = "start"
    WATCH = "watch"
    COLD = "cold"
    PUT_BACK = "put-back"
    CAUSE = "cause"
    FIX = "fix"
    MINUTES = "minutes"
    HAND_OVER = "hand-over"
    TAKE_UP = "take-up"


FREE = {
    PromptKind.WORDS,
    PromptKind.PUT_BACK,
    PromptKind.CAUSE,
    PromptKind.FIX,
    PromptKind.MINUTES,
    PromptKind.HAND_OVER,
}
"""Kinds that somebody's own words are an answer to."""


class StepCard(msgspec.Struct, frozen=True, kw_only=True):
    """Everything that has to be known to do one step.

    Attributes:
        number: of the step in its visit, from 1; of: how many there are.
        way: how to get to the place; empty when one is there already.
        minutes: all in all. waits: those of them in which it runs by itself.
        at_hand: what is needed.
        why: why now.
        chance: that it puts right what is wrong; 0 for what only tells.
        how_to: how it is done, part by part.
    """

    step: str
    place: Place
    number: int
    of: int
    way: str
    does: str
    how: str
    tells: str
    normal: str
    minutes: float
    waits: float
    at_hand: tuple[str, ...]
    stakes: Risk
    undone: str
    why: str
    chance: float
    repair: RepairId | None
    how_to: HowTo


class Prompt(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="prompt/1"):
    """One thing that is asked.

    Attributes:
        about: the fact, sign or step; empty where the kind says it all.
        answers: by name what each means; names of one kind are given in the order of listing.
        also: further names that are understood.
        usual: the answer that an empty line gives; empty: none.
        explains: what `?` shows.
        card: of a step.
    """

    kind: PromptKind
    about: str = ""
    asks: str
    answers: Mapping[str, str] = {}
    also: Mapping[str, str] = {}
    usual: str = ""
    explains: tuple[str, ...] = ()
    card: StepCard | None = None

    @property
    def free(self) -> bool:
        """Whether somebody's own words are an answer."""
        return self.kind in FREE
