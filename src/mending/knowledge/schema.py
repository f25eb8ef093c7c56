"""The rows of a knowledge pack. `docs/packs.md` explains them to whoever writes one."""

from collections.abc import Mapping

import msgspec

from mending.model import Phase, Place, Stakes

UNKNOWN = "unknown"
"""Always a legal answer; it tells nothing."""
SOMETHING_ELSE = "something-else"
"""The share of belief that no cause of the pack explains."""


class Answer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One possible answer to a question.

    Attributes:
        says: the answer as a person would give it.
        usual: how often it is heard over all PCs that do not start, relative to the other answers.
    """

    says: str
    usual: float = 1.0


class Sign(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that a person can see, try or know.

    Attributes:
        minutes: what it takes to find out.
        take_in: whether `open` asks it.
    """

    id: str
    asks: str
    answers: Mapping[str, Answer]
    minutes: float = 0.5
    take_in: bool = False


class Clue(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that crash records can show.

    Attributes:
        usual: probability that the records show it when the cause has nothing to do with it.
    """

    id: str
    says: str
    usual: float


class Cause(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that may be wrong.

    Attributes:
        weight: grade of the prior, a key of the grades' `weights`.
        proved_by: ids of findings that prove it.
        families: system families it can strike; empty means all.
        shows: for a sign, for an answer: how likely that answer is when this is the cause, a key of `chances`.
        records: for a clue: how likely crash records show it when this is the cause, a key of `chances`.
    """

    id: str
    phase: Phase
    says: str
    weight: str
    proved_by: tuple[str, ...] = ()
    families: tuple[str, ...] = ()
    shows: Mapping[str, Mapping[str, str]] = {}
    records: Mapping[str, str] = {}


class Step(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something to do.

    Attributes:
        does: one sentence: what it is.
        how: how it is done.
        tells: how to tell that it worked.
        needs: facts that must have these answers.
        after: steps that must have been tried before.
        fixes: how likely the step puts each cause right, a key of `chances`.
        finds: how likely the step's own report names each cause when it is there, a key of `chances`.
        repair: the repair that Mending does itself.
    """

    id: str
    does: str
    how: str
    tells: str
    minutes: float
    place: Place
    stakes: Stakes = Stakes.NOTHING
    needs: Mapping[str, str] = {}
    after: tuple[str, ...] = ()
    fixes: Mapping[str, str] = {}
    finds: Mapping[str, str] = {}
    repair: str | None = None


class Visit(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What it takes to get to a place.

    Attributes:
        how: how to get there.
        minutes: for getting there, and for the test start afterwards.
    """

    place: Place
    how: str
    minutes: float
    test_start_minutes: float
    needs: Mapping[str, str] = {}


class Grades(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The numbers behind the words, all in one place.

    Attributes:
        weights: prior weight of a cause, relative to the others.
        chances: probability between 0 and 1.
        hand_over: what handing over costs, in minutes.
        prices: for each kind of care, what a stake costs in minutes.
    """

    weights: Mapping[str, float]
    chances: Mapping[str, float]
    hand_over: float
    prices: Mapping[str, Mapping[str, float]]


class Pack(msgspec.Struct, frozen=True, kw_only=True):
    """A whole pack, by id."""

    grades: Grades
    facts: Mapping[str, Sign]
    signs: Mapping[str, Sign]
    clues: Mapping[str, Clue]
    causes: Mapping[str, Cause]
    steps: Mapping[str, Step]
    visits: Mapping[Place, Visit]

    def chance(self, grade: str) -> float:
        """The probability behind a grade of likelihood."""
        return self.grades.chances[grade]
