"""The rows of a knowledge pack. `docs/packs.md` explains them to whoever writes one."""

from collections.abc import Mapping
from enum import StrEnum

import msgspec

from mending.model import FindingId, Phase, Place, RepairId, Risk

UNKNOWN = "unknown"
"""Always a legal answer; it tells nothing."""
SOMETHING_ELSE = "something-else"
"""The share of belief that no cause of the pack explains."""
TOGETHER = "+"
"""Between causes that are there at once, in the name of what is believed."""


Need = str | tuple[str, ...]
"""The answer, or one of the answers, that a fact or sign must have."""


class ReportKind(StrEnum):
    """What a step said when it was done. Whether the PC starts is another matter."""

    DONE = "done"
    FOUND = "found"
    NOTHING_WRONG = "nothing-wrong"
    MENDED = "mended"
    NOT_MENDED = "not-mended"
    NOT_RUN = "not-run"


class WhyNotRun(StrEnum):
    """Why a step could not be run."""

    REFUSED = "refused"
    NO_KEY = "no-key"
    NO_MENU = "no-menu"
    NO_TIME = "no-time"
    """It can be planned again."""


class Answer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One possible answer to a question.

    Attributes:
        says: the answer as a person would give it.
        usual: how often it is heard over all PCs that do not start, relative to the other answers.
        implies: answers to facts that follow from it.
        words: how people say it: phrases of words that must all be there, close together;
            alternatives of a word are divided by `|`.
        denied: the answer that holds where somebody says that this is not so.
        reaches: the phase that a start gets to at least when this is seen; None: it does not tell.
        stops_before: the phase that it then does not get to; None: it does not tell.
    """

    says: str
    usual: float = 1.0
    implies: Mapping[str, str] = {}
    words: tuple[str, ...] = ()
    denied: str = ""
    reaches: Phase | None = None
    stops_before: Phase | None = None


class Sign(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that a person can see, try or know.

    Attributes:
        about: what it is about; signs are listed under it.
        minutes: what it takes to find out.
        take_in: whether `open` asks it.
        group: name that it shares with signs and clues which in part tell the same.
        supply: for a fact: how to come to what is missing.
        pointless: it is not asked once one of these signs or facts has one of these answers.
    """

    id: str
    asks: str
    answers: Mapping[str, Answer]
    about: str = ""
    minutes: float = 0.5
    take_in: bool = False
    group: str = ""
    supply: str = ""
    pointless: Mapping[str, Need] = {}

    @property
    def shares(self) -> dict[str, float]:
        """How often each answer is heard, adding up to 1."""
        total = sum(answer.usual for answer in self.answers.values())
        return {name: answer.usual / total for name, answer in self.answers.items()}


class Clue(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that crash records can show.

    Attributes:
        usual: probability that the records show it when the cause has nothing to do with it.
        group: name that it shares with signs and clues which in part tell the same.
    """

    id: str
    says: str
    usual: float
    group: str = ""


class Cause(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that may be wrong.

    Attributes:
        stops: in which phases it stops the start, by weight; empty: always in its own.
        weight: grade of the prior, a key of the grades' `weights`.
        proved_by: ids of findings that prove it.
        families: system families it can strike; empty means all.
        likelier: for a fact, for an answer: how much more or less often it strikes then, a key of
            `odds`.
        shows: for a sign, for an answer: how likely that answer is when this is the cause, a key of
            `chances`.
        records: for a clue: how likely crash records show it when this is the cause, a key of
            `chances`.
    """

    id: str
    phase: Phase
    says: str
    weight: str
    stops: Mapping[Phase, float] = {}
    proved_by: tuple[FindingId, ...] = ()
    families: tuple[str, ...] = ()
    likelier: Mapping[str, Mapping[str, str]] = {}
    shows: Mapping[str, Mapping[str, str]] = {}
    records: Mapping[str, str] = {}

    @property
    def shares(self) -> dict[Phase, float]:
        """In which phases it stops the start, adding up to 1."""
        total = sum(self.stops.values())
        if not total:
            return {self.phase: 1.0}
        return {phase: weight / total for phase, weight in self.stops.items()}


class Step(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something to do.

    Attributes:
        does: one sentence: what it is.
        how: how it is done.
        tells: how to tell that it worked.
        normal: what is normal while it runs, so that nobody cuts it off.
        also: other places where it can be done as well.
        minutes: at work. waits: minutes in which it runs by itself.
        undone: how it can be undone; empty where it cannot.
        put_back: what has to be put back afterwards.
        needs: facts or signs that must have one of these answers.
        gives: answers to facts or signs that hold once it is done.
        after: steps that must have been tried before; rather_after: those too, where they can be
            done.
        fixes: how likely the step puts each cause right, a key of `chances`.
        finds: how likely the step's own report names each cause when it is there, a key of
            `chances`.
        reports: what each of its reports says, by kind of report.
        repair: the repair that Mending does itself.
    """

    id: str
    does: str
    how: str
    tells: str
    normal: str = ""
    minutes: float
    waits: float = 0.0
    place: Place
    also: tuple[Place, ...] = ()
    stakes: Risk = Risk.NOTHING
    undone: str = ""
    put_back: str = ""
    needs: Mapping[str, Need] = {}
    gives: Mapping[str, str] = {}
    after: tuple[str, ...] = ()
    rather_after: tuple[str, ...] = ()
    fixes: Mapping[str, str] = {}
    finds: Mapping[str, str] = {}
    reports: Mapping[ReportKind, str] = {}
    repair: RepairId | None = None

    @property
    def fitting(self) -> tuple[ReportKind, ...]:
        """The reports that make sense of this step: a test finds something or nothing, a repair
        that looks mends it or does not, what merely changes something is done or fails.
        """
        if not self.finds:
            return (ReportKind.DONE, ReportKind.NOT_MENDED, ReportKind.NOT_RUN)
        if not self.fixes:
            return (ReportKind.NOTHING_WRONG, ReportKind.FOUND, ReportKind.NOT_RUN)
        mends = (ReportKind.MENDED, ReportKind.NOT_MENDED)
        return (ReportKind.NOTHING_WRONG, *mends, ReportKind.NOT_RUN)

    @property
    def takes(self) -> float:
        """Minutes at work and waiting."""
        return self.minutes + self.waits


class Way(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Another way to a place, open when facts have these answers.

    Attributes:
        only: there is no other way then.
    """

    when: Mapping[str, Need]
    how: str
    minutes: float
    only: bool = False


class Visit(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What it takes to get to a place.

    Attributes:
        how: how to get there.
        minutes: for getting there, and for the test start afterwards.
        ways: other ways; the shortest of those that are open is taken, whose facts are all known.
    """

    place: Place
    how: str
    minutes: float
    test_start_minutes: float
    needs: Mapping[str, Need] = {}
    ways: tuple[Way, ...] = ()


class Grades(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The numbers behind the words, all in one place.

    Attributes:
        weights: prior weight of a cause, relative to the others.
        chances: probability between 0 and 1.
        odds: by how much the weight of a cause is multiplied.
        hand_over: what handing over costs, in minutes.
        prices: for each kind of care, what a stake costs in minutes.
    """

    weights: Mapping[str, float]
    chances: Mapping[str, float]
    odds: Mapping[str, float]
    hand_over: float
    prices: Mapping[str, Mapping[str, float]]


class Speech(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How people speak, whatever it is about.

    Attributes:
        same: for a word the other ways of saying it, of one word or several.
        denials: words that deny what comes after them.
        joints: words inside a clause beyond which a denial does not reach.
        fillers: words that say nothing here.
        unsure: what people say when they do not know it for certain.
    """

    same: Mapping[str, tuple[str, ...]] = {}
    denials: tuple[str, ...] = ()
    joints: tuple[str, ...] = ()
    fillers: tuple[str, ...] = ()
    unsure: tuple[str, ...] = ()


class Pack(msgspec.Struct, frozen=True, kw_only=True):
    """A whole pack, by id."""

    grades: Grades
    speech: Speech = Speech()
    facts: Mapping[str, Sign]
    signs: Mapping[str, Sign]
    clues: Mapping[str, Clue]
    causes: Mapping[str, Cause]
    steps: Mapping[str, Step]
    visits: Mapping[Place, Visit]

    def chance(self, grade: str) -> float:
        """The probability behind a grade of likelihood."""
        return self.grades.chances[grade]

    def question(self, name: str) -> Sign | None:
        """The fact or sign of that name."""
        return self.facts.get(name) or self.signs.get(name)

    def pointless(self, sign: Sign, known: Mapping[str, str]) -> bool:
        """Whether what is known makes asking idle."""
        return any(known.get(name) in answers_of(need) for name, need in sign.pointless.items())

    def answer_chances(self, cause: Cause | None, sign: Sign) -> dict[str, float]:
        """P(answer | cause): what the cause does not mention shares what is left as usual. Without
        cause: as usual.
        """
        usual = sign.shares
        named = {
            name: self.chance(grade)
            for name, grade in (cause.shows.get(sign.id, {}) if cause else {}).items()
        }
        rest = sum(share for name, share in usual.items() if name not in named)
        left = max(1 - sum(named.values()), 0.0)
        return {
            name: named[name] if name in named else left * share / rest
            for name, share in usual.items()
        }


def answers_of(need: Need) -> tuple[str, ...]:
    """The answers that meet a need."""
    return (need,) if isinstance(need, str) else need
