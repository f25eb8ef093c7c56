"""The rows of a knowledge pack. `docs/packs.md` explains them to whoever writes one."""

from collections.abc import Mapping

import msgspec

from mending.knowledge.cards import Card
from mending.knowledge.steps import (
    Need,
    Precaution,
    ReportKind,
    Resort,
    Step,
    ToolReport,
    Visit,
    answers_of,
)
from mending.model import PHASES, FindingId, Phase, Place

UNKNOWN = "unknown"
"""Always a legal answer; it tells nothing."""
SOMETHING_ELSE = "something-else"
"""The share of belief that no cause of the pack explains."""
TOGETHER = "+"
"""Between causes that are there at once, in the name of what is believed."""


class Answer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One possible answer to a question.

    Attributes:
        says: the answer as a person would give it.
        usual: how often it is heard over all PCs that do not start, relative to the other answers.
        implies: answers to facts and signs that follow from it.
        words: how people say it: phrases of words that must all be there, close together;
            alternatives of a word are divided by `|`.
        denied: the answer that holds where somebody says that this is not so.
        part_of: another answer that is also true where this one is: what a cause shows of that one
            counts for both together, and each has its usual share of it.
        reaches: the phase that a start gets to at least when this is seen; None: it does not tell.
        stops_before: the phase that it then does not get to; None: it does not tell.
    """

    says: str
    usual: float = 1.0
    implies: Mapping[str, str] = {}
    words: tuple[str, ...] = ()
    denied: str = ""
    part_of: str = ""
    reaches: Phase | None = None
    stops_before: Phase | None = None


class Screen(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What stands on the screen, and what that tells of the start.

    Attributes:
        shown: the answer to a sign that it is, as `sign=answer`.
        passed: the phase that a start gets to at least that shows it; `power` where it does not
            tell.
        stops_before: the phase that it then does not get to; None: it does not tell.
        implies: answers to facts and signs that follow from it.
        reports: steps that the PC has done by itself then, and what they reported.
        opens: places that can be reached from it, and the minutes; `how` that is done.
    """

    shown: str
    passed: Phase
    stops_before: Phase | None = None
    implies: Mapping[str, str] = {}
    reports: Mapping[str, ReportKind] = {}
    opens: Mapping[Place, float] = {}
    how: str = ""

    @property
    def answers(self) -> tuple[str, str]:
        """The sign and its answer."""
        sign, _, answer = self.shown.partition("=")
        return sign, answer


class Sign(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that a person can see, try or know.

    Attributes:
        about: what it is about; signs are listed under it.
        minutes: what it takes to find out.
        asked_at_open: whether `open` asks it.
        call_order: its place among the questions that a call begins with; 0: none.
        explains: how a person finds out.
        thing: for a fact: what has to be at hand where it must be answered with yes.
        group: name that it shares with signs and clues which in part tell the same.
        supply: for a fact: how to come to what is missing.
        not_asked_if: it is not asked once one of these signs or facts has one of these answers.
        until: it is not asked once a screen shows that the start got beyond this phase.
    """

    id: str
    asks: str
    answers: Mapping[str, Answer]
    about: str = ""
    minutes: float = 0.5
    asked_at_open: bool = False
    call_order: int = 0
    explains: str = ""
    thing: str = ""
    group: str = ""
    supply: str = ""
    not_asked_if: Mapping[str, Need] = {}
    until: Phase | None = None

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
        missed_by_trace: how likely a trace that read its phase finds nothing although this is the
            cause, a key of `chances`; empty: hardly ever.
        families: system families it can strike; empty means all.
        likelier: for a fact, for an answer: how much more or less often it strikes then, a key of
            `odds`.
        shows: for a sign, for an answer: how likely that answer is when this is the cause, a key of
            `chances`.
        was: the same as `says`, as the PC's user reads it when it is over.
        records: for a clue: how likely crash records show it when this is the cause, a key of
            `chances`.
    """

    id: str
    phase: Phase
    says: str
    was: str = ""
    weight: str
    stops: Mapping[Phase, float] = {}
    proved_by: tuple[FindingId, ...] = ()
    missed_by_trace: str = ""
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
        turns: words by which somebody tells that one screen came after another.
        notices: patterns of what screens say to everyone, which tells nothing of this PC; no groups
            that are kept.
        futile: what people say of something that they did and that did not help.
        advice: words with which a screen proposes something; what comes after them is no fact.
        absences: verbs that deny what stands before them where a word of denial stands between.
    """

    same: Mapping[str, tuple[str, ...]] = {}
    denials: tuple[str, ...] = ()
    joints: tuple[str, ...] = ()
    fillers: tuple[str, ...] = ()
    unsure: tuple[str, ...] = ()
    turns: tuple[str, ...] = ()
    notices: tuple[str, ...] = ()
    futile: tuple[str, ...] = ()
    advice: tuple[str, ...] = ()
    absences: tuple[str, ...] = ()


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
    precautions: Mapping[str, Precaution] = {}
    screens: Mapping[str, Screen] = {}
    resorts: Mapping[str, Resort] = {}
    tool_reports: Mapping[str, ToolReport] = {}
    cards: tuple[Card, ...] = ()

    def chance(self, grade: str) -> float:
        """The probability behind a grade of likelihood."""
        return self.grades.chances[grade]

    def question(self, name: str) -> Sign | None:
        """The fact or sign of that name."""
        return self.facts.get(name) or self.signs.get(name)

    def pointless(self, sign: Sign, known: Mapping[str, str]) -> bool:
        """Whether what is known makes asking idle."""
        if any(known.get(name) in answers_of(need) for name, need in sign.not_asked_if.items()):
            return True
        return sign.until is not None and self.reached(known).rank > sign.until.rank

    def reached(self, known: Mapping[str, str]) -> Phase:
        """The last phase that the screens which were seen show to be reached."""
        passed = [
            screen.passed
            for screen in self.screens.values()
            if known.get(screen.answers[0]) == screen.answers[1]
        ]
        return max(passed, key=lambda phase: phase.rank, default=PHASES[0])

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
