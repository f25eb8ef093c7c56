"""What is asked next, told from the record alone.

The order: a case that was handed over is taken up first; a PC that works is checked from cold and
closed; a pending test start comes before everything that is new; a visit that was begun is gone on
with; then the few questions of a first call, the question that pays most, the plan's next visit;
and where nothing is left, handing over.
"""

from collections.abc import Mapping
from enum import StrEnum

import msgspec

from mending.case import work
from mending.case.events import (
    AnyEvent,
    Checked,
    HandedOver,
    Heard,
    Learned,
    Listed,
    Noted,
    PassedOver,
    Saw,
    Started,
    Tried,
    Visiting,
    VisitStep,
)
from mending.case.folder import Case, record
from mending.case.reasoning import card_facts, causes_of, facts_of, filled_of, plan_of, question_of
from mending.case.state import CaseState, next_step, start_due, still_counting, still_ours
from mending.case.work import check_answers, entry_taken_back, heard, started, tried
from mending.knowledge import UNKNOWN, HowTo, Pack, ReportKind, Step, WhyNotRun, how_to
from mending.model import Hand, Place, RepairId, Risk, UsageError, clean_text
from mending.plan import PlanResult, VisitResult
from mending.reason import Statement

# What is asked, as values: one prompt at a time.


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


# Prompts in words: a question, a step with all that has to be known to do it, a test start.


_REPORTS = {
    ReportKind.DONE: "it is done",
    ReportKind.FOUND: "it found something",
    ReportKind.NOTHING_WRONG: "it found nothing wrong",
    ReportKind.MENDED: "it put something right",
    ReportKind.NOT_MENDED: "it found something and could not put it right",
    ReportKind.NOT_RUN: "it could not be run (or say why: refused, no-key, no-menu)",
}
_NOT_DONE = "it could not be done, or did not work"
_WHY_NOT = {
    "refused": "access was refused",
    "no-key": "the recovery key is not at hand",
    "no-menu": "there is no such menu, key or entry",
}
_WRITE = {"write": "let Mending do it now"}
FIRST_WORDS = {
    "screen": (
        "What does the screen show, word for word?",
        "Read out everything that stands there, codes and names too. Nothing at all, a blinking"
        " line, a logo: that is an answer as well. If it passes too fast, a short film helps.",
    ),
    "changed": (
        "What was added, updated, installed or changed just before?",
        "An update, a program, a device, more memory, a move, a fall, a storm. Nothing that you"
        " know of is an answer, too.",
    ),
    "since": (
        "Since when?",
        "The first time that it failed, and whether it fails every time or comes and goes.",
    ),
}
"""What a first call is asked in words, in the order in which a caller can follow, and what helps to
answer it.
"""
_STICK, _STICKS = "Take the stick out first. ", {Place.RESCUE_STICK, Place.OWN_STICK}
_DEARER = 3
"""Steps beyond the plan that are offered where it ends."""
_NAMED = 5
"""Causes that are told when a case is handed over, for whoever goes on with it."""
_HAND_OVER = {
    "maker": "the maker's support",
    "workshop": "a workshop",
    "colleague": "a colleague",
    "owner": "the owner, who decides what comes next",
}


def question(pack: Pack, name: str) -> Prompt:
    """A fact, a sign, or one of the notes of a first call."""
    if name in FIRST_WORDS:
        asks, help_with_it = FIRST_WORDS[name]
        return Prompt(kind=PromptKind.WORDS, about=name, asks=asks, explains=(help_with_it,))
    kind = PromptKind.FACT if name in pack.facts else PromptKind.SIGN
    sign = pack.facts.get(name) or pack.signs[name]
    answers = {each: answer.says for each, answer in sign.answers.items()}
    explains = [sign.explains] if sign.explains else []
    explains += [f"It takes about {sign.minutes:g} min to find out."] if sign.minutes > 1 else []
    explains.append("`unknown` is an answer: it tells nothing and is not asked again.")
    return Prompt(
        kind=kind,
        about=name,
        asks=sign.asks,
        answers={**answers, UNKNOWN: "cannot tell"},
        explains=tuple(explains),
    )


def step(state: CaseState, pack: Pack, name: str) -> Prompt:
    """A step of the visit that was begun, and what it may report."""
    row = pack.steps[name]
    card = _card(state, pack, row)
    fitting = [kind for kind in row.fitting if kind is not ReportKind.NOT_RUN]
    ours = card.repair is not None
    answers: dict[str, str] = dict(_WRITE) if ours else {}
    answers |= {kind.value: _report_says(row, kind) for kind in (*fitting, ReportKind.NOT_RUN)}
    return Prompt(
        kind=PromptKind.REPAIR if ours else PromptKind.STEP,
        about=name,
        asks="Shall Mending do it, or what did it report?" if ours else "What did it report?",
        answers=answers,
        also=_WHY_NOT,
        explains=_explained(card),
        card=card,
    )


def _report_says(row: Step, kind: ReportKind) -> str:
    told = row.reports.get(kind, "")
    says = _NOT_DONE if kind is ReportKind.NOT_MENDED and not row.finds else _REPORTS[kind]
    return f"{says}: {told}" if told else says


def _card(state: CaseState, pack: Pack, row: Step) -> StepCard:
    visit = state.visit
    assert visit is not None
    names = [planned.step for planned in visit.steps]
    planned = visit.steps[names.index(row.id)]
    at_bench = visit.place is Place.BENCH and state.disk is not None
    return StepCard(
        step=row.id,
        place=visit.place,
        number=names.index(row.id) + 1,
        of=len(names),
        way="" if state.in_visit else visit.how,
        does=row.does,
        how=row.how,
        tells=row.worked_if,
        normal=row.normal,
        minutes=planned.minutes,
        waits=row.waits,
        at_hand=_at_hand(pack, row),
        stakes=row.stakes,
        undone=row.undone,
        why=planned.why,
        chance=planned.chance,
        repair=row.repair if at_bench else None,
        how_to=how_to(pack, row, card_facts(state, pack), filled_of(state), visit.place),
    )


def _at_hand(pack: Pack, row: Step) -> tuple[str, ...]:
    """The things that the step and its place ask for."""
    needs = {**pack.visits[row.place].needs, **row.needs}
    asked = [pack.facts[name] for name in needs if name in pack.facts]
    return tuple(fact.thing for fact in asked if fact.thing)


def _explained(card: StepCard) -> tuple[str, ...]:
    told = [f"How to tell that it worked: {card.tells}"]
    told += [f"To undo it: {card.undone}"] if card.undone else []
    told.append(
        "What a step reported is one thing, whether the PC starts another: that is asked at the"
        " test start."
    )
    return tuple(told)


def start(state: CaseState) -> Prompt:
    """The test start that is due."""
    done = ", ".join(dict.fromkeys(report.step for report in state.since_start))
    return Prompt(
        kind=PromptKind.START,
        asks="Test start: does it start now?",
        answers={
            "yes": "it starts and stays up",
            "no": "it does not",
            "watch": "it starts, but the trouble comes and goes: only time will tell",
        },
        explains=(
            f"Done since the last one: {done}.",
            f"{_STICK if _stick_used(state) else ''}The first start may be slow; the power is not"
            " cut.",
        ),
    )


def _stick_used(state: CaseState) -> bool:
    """Whether anything since the last test start was done from a stick."""
    by_stick = state.facts.get("recovery-by") == "stick"
    return by_stick or (state.visit is not None and state.visit.place in _STICKS)


def watch(state: CaseState) -> Prompt:
    """How a PC under watch does."""
    usual = state.watched.usual_hours if state.watched is not None else 0.0
    return Prompt(
        kind=PromptKind.WATCH,
        asks="It is under watch. How does it do?",
        answers={
            "yes": "it ran long enough; it counts as mended",
            "no": "it failed again",
            "watch": "it still runs; go on watching",
        },
        explains=(f"It used to fail after about {usual:.3g} hours.",),
    )


def take_up(handed: HandedOver) -> Prompt:
    """Whether a case that was handed over is gone on with here."""
    return Prompt(
        kind=PromptKind.TAKE_UP,
        asks=f"It was handed over to {handed.to}. Go on with it here?",
        answers={"yes": "it is back", "no": "leave it there"},
        explains=("What was done and said stays as it is.",),
    )


def hand_over(state: CaseState, pack: Pack, plan: PlanResult) -> Prompt:
    """Nothing is left that promises more than it costs; what is left all the same can be chosen."""
    dearer = plan.dearer[:_DEARER]
    offered = {
        row.id: f"{row.does} ({row.chance:.0%}, {row.minutes:.0f} min, puts {row.stakes} at stake)"
        for row in dearer
    }
    ranked = causes_of(state, pack).causes[:_NAMED]
    likeliest = "; ".join(f"{cause.says} ({cause.chance:.0%})" for cause in ranked)
    return Prompt(
        kind=PromptKind.HAND_OVER,
        asks="What is left here costs more than handing over. Who goes on with it, or which step?",
        answers={**_HAND_OVER, **offered},
        explains=_sentences(
            f"Held to be wrong: {likeliest}" if likeliest else "",
            "All that is left, and the last resorts in their order: mending plan CASE --all",
        ),
    )


def _sentences(*texts: str) -> tuple[str, ...]:
    return tuple(text for text in texts if text)


# What somebody typed at a prompt, told apart: an answer, or one of the words that are understood
# everywhere.


NOTES = {
    "?": "explains",
    "back": "takes the last answer back",
    "skip": "passes over this one for good",
    "later": "puts this one off",
    "ask": "asks what else pays to know before the next step",
    "stop": "stops here; everything so far is recorded",
    "note TEXT": "writes something down",
    "code TEXT": "records a code or message of the screen",
    "volume TEXT": "records a volume read aloud: letter, size, file system, label, folders",
}
"""What is understood at every prompt."""

_YES, _NO = {"y", "yes"}, {"n", "no"}


class ReplyKind(StrEnum):
    """What a line is."""

    ANSWER = "answer"
    EXPLAIN = "explain"
    BACK = "back"
    SKIP = "skip"
    LATER = "later"
    STOP = "stop"
    NOTE = "note"
    CODE = "code"
    VOLUME = "volume"
    ASK = "ask"
    UNCLEAR = "unclear"


class Reply(msgspec.Struct, frozen=True):
    """A line, told apart. `words` are the answer's name, the text, or what was not understood."""

    kind: ReplyKind
    words: str = ""


_ALONE = {
    "?": ReplyKind.EXPLAIN,
    "help": ReplyKind.EXPLAIN,
    "back": ReplyKind.BACK,
    "skip": ReplyKind.SKIP,
    "later": ReplyKind.LATER,
    "ask": ReplyKind.ASK,
    "stop": ReplyKind.STOP,
    "stop here": ReplyKind.STOP,
}
_WITH_TEXT = {"note": ReplyKind.NOTE, "code": ReplyKind.CODE, "volume": ReplyKind.VOLUME}


def parse(prompt: Prompt, line: str) -> Reply:
    """What a line means at this prompt: an answer's number, its name, or the beginning of it where
    only one begins so.
    """
    words = " ".join(line.split())
    low = words.lower()
    first, _, rest = words.partition(" ")
    if low in _ALONE:
        return Reply(_ALONE[low])
    if first.lower() in _WITH_TEXT:
        return Reply(_WITH_TEXT[first.lower()] if rest else ReplyKind.UNCLEAR, rest or words)
    if not words:
        return _empty(prompt)
    if prompt.kind is PromptKind.PUT_BACK and low in _YES | _NO:
        is_back = low in _YES
        return Reply(ReplyKind.ANSWER, "done") if is_back else Reply(ReplyKind.UNCLEAR, words)
    name = _named(prompt, low)
    if name is not None:
        return Reply(ReplyKind.ANSWER, name)
    if prompt.kind is PromptKind.MINUTES and not _is_number(low):
        return Reply(ReplyKind.UNCLEAR, words)
    return Reply(ReplyKind.ANSWER if prompt.free else ReplyKind.UNCLEAR, words)


def _empty(prompt: Prompt) -> Reply:
    if prompt.usual:
        return Reply(ReplyKind.ANSWER, prompt.usual)
    can_pass = prompt.kind in {PromptKind.WORDS, PromptKind.MINUTES}
    return Reply(ReplyKind.SKIP if can_pass else ReplyKind.EXPLAIN)


def _named(prompt: Prompt, low: str) -> str | None:
    """The answer that is meant."""
    names = list(prompt.answers)
    everything = [*names, *prompt.also]
    if low in everything:
        return low
    if prompt.kind is PromptKind.MINUTES:
        return None
    if low.isdecimal() and 0 < int(low) <= len(names):
        return names[int(low) - 1]
    yes_no = {**dict.fromkeys(_YES, 0), **dict.fromkeys(_NO, 1)}
    if low in yes_no and (pair := _yes_and_no(prompt)) is not None:
        return pair[yes_no[low]]
    begins = [name for name in everything if name.startswith(low) and len(low) > 1]
    return begins[0] if len(begins) == 1 else None


def _yes_and_no(prompt: Prompt) -> tuple[str, str] | None:
    """What yes and no mean where one would say so."""
    pairs = [("yes", "no"), ("write", "not-run"), ("done", "not-mended")]
    return next((pair for pair in pairs if set(pair) <= set(prompt.answers)), None)


def _is_number(word: str) -> bool:
    try:
        return 0 <= float(word) < 1e5
    except ValueError:
        return False


# The last prompts of a case: from cold, put back, cause, fix, minutes.


_MOST_CAUSES = 9
_SHOWN = 0.005
"""From this chance on a cause is in the list; the likeliest always is."""
_SURE = 0.5
"""From this chance on a cause is proposed as the answer."""


def closing_prompt(case: Case, pack: Pack) -> Prompt | None:
    """The next one that is open; None where everything was said."""
    said = case.state.checked
    if work.COLD not in said:
        return _COLD
    for step, words in work.to_put_back(case, pack).items():
        if work.put_back_key(step) not in said:
            return _put_back(step, words)
    if work.CAUSE not in said:
        return _cause(case, pack)
    if work.FIX not in said:
        return _fix(case)
    return _MINUTES if work.MINUTES not in said else None


_COLD = Prompt(
    kind=PromptKind.COLD,
    asks="It works. Once more from cold: switch off, wait, switch on, sign in, try what failed."
    " Does it hold?",
    answers={"yes": "all of it works", "no": "it failed again"},
    explains=(
        "A restart is no start from cold: memory, devices and settings of the firmware are only"
        " then set up from nothing. Take the stick out first.",
    ),
)
_MINUTES = Prompt(
    kind=PromptKind.MINUTES,
    asks="Minutes of work, all in all?",
    explains=("A number; an empty line leaves it open.",),
)


def _put_back(step: str, words: str) -> Prompt:
    return Prompt(
        kind=PromptKind.PUT_BACK,
        about=step,
        asks=f"To be put back: {words} Is that done?",
        answers={"done": "it is put back"},
        explains=("If it stays on purpose, type why in your own words.",),
    )


def _cause(case: Case, pack: Pack) -> Prompt:
    ranked = causes_of(case.state, pack).causes[:_MOST_CAUSES]
    shown = [each for each in ranked if each.chance >= _SHOWN or each is ranked[0]]
    return Prompt(
        kind=PromptKind.CAUSE,
        asks="What was wrong?",
        answers={each.id: f"{each.says} ({each.chance:.0%})" for each in shown},
        usual=shown[0].id if shown and shown[0].chance >= _SURE else "",
        explains=(
            "The likeliest first, by everything that was seen, found, done and helped."
            " Your own words are an answer, too.",
        ),
    )


def _fix(case: Case) -> Prompt:
    done = [
        attempt
        for attempt in case.state.tried
        if attempt.report is not ReportKind.NOT_RUN and not attempt.told
    ]
    last = {report.step for report in case.state.worked}
    done.reverse()
    ordered = sorted(done, key=lambda attempt: attempt.step not in last)
    changed = [
        attempt.step
        for attempt in ordered
        if attempt.step in last and attempt.report in {ReportKind.MENDED, ReportKind.DONE}
    ]
    return Prompt(
        kind=PromptKind.FIX,
        asks="What mended it?",
        answers={attempt.step: attempt.report.value for attempt in ordered},
        usual=changed[0] if len(changed) == 1 else "",
        explains=(
            "What was done before the start that worked comes first."
            " Your own words are an answer, too.",
        ),
    )


MOST_QUESTIONS = 4
"""Asked before the first step at most: whoever calls wants something done."""


def lead(case: Case, pack: Pack, hand: Hand, more: bool = False) -> tuple[Case, Prompt | None]:
    """The next prompt; None once the case is closed. What is begun by asking (a visit), or ends
    with the last answer (the case), is recorded.

    Args:
        more: ask what pays before the next step, though enough was asked.

    Raises:
        RefusedError, InputError: the case cannot be written.
    """
    state = case.state
    if state.closed is not None:
        return case, None
    if state.handed_over is not None:
        return case, take_up(state.handed_over)
    if state.works:
        prompt = closing_prompt(case, pack)
        return (case, prompt) if prompt is not None else (_close(case, pack, hand), None)
    if state.under_watch:
        return case, watch(state)
    if start_due(state, pack):
        return case, start(state)
    due = next_step(state, pack)
    if due is not None and more and (asked := question_of(state, pack).sign) is not None:
        return case, question(pack, asked)
    if due is not None:
        return case, step(state, pack, due)
    return _lead_on(case, pack, hand, more)


def _lead_on(case: Case, pack: Pack, hand: Hand, more: bool) -> tuple[Case, Prompt]:
    """Between visits: questions, then the next visit. Nothing is asked while the disk itself says
    what is to be mended, and a few questions at most before the first step.
    """
    state = case.state
    asked = None
    enough = not state.begun and state.questions >= MOST_QUESTIONS and not more
    if not (still_ours(state) or enough):
        asked = _first_question(state, pack) or question_of(state, pack).sign
    if asked is not None:
        return case, question(pack, asked)
    plan = plan_of(state, pack)
    visit = _next_visit(state, plan.visits)
    if visit is None:
        return case, hand_over(state, pack, plan)
    begun, first = begin_visit(case, hand, visit)
    return begun, step(begun.state, pack, first)


def begin_visit(case: Case, hand: Hand, visit: VisitResult) -> tuple[Case, str]:
    """Record that a visit is begun; also its first step.

    Raises:
        RefusedError, InputError: the case cannot be written.
    """
    steps = tuple(
        VisitStep(step=step.id, minutes=step.minutes, chance=step.chance, why=step.why)
        for step in visit.steps
    )
    visiting = Visiting(at=hand.since, place=visit.place, how=visit.how, steps=steps)
    return record(case, hand, visiting), steps[0].step


def _close(case: Case, pack: Pack, hand: Hand) -> Case:
    said = case.state.checked
    put_back = {step: said[work.put_back_key(step)] for step in work.to_put_back(case, pack)}
    minutes = float(said[work.MINUTES]) if said.get(work.MINUTES) else None
    cause, fix = said[work.CAUSE], said[work.FIX]
    return work.closed(case, pack, hand, cause, fix, put_back, minutes)


def _first_question(state: CaseState, pack: Pack) -> str | None:
    """Of the questions that a first call begins with, the first that is open. A disk on the bench
    tells more than a caller can.
    """
    if state.trace is not None or state.begun:
        return None
    words = [name for name in FIRST_WORDS if name not in state.notes]
    facts = sorted(
        (fact for fact in pack.facts.values() if fact.call_order), key=lambda fact: fact.call_order
    )
    known = facts_of(state, pack)
    open_facts = [fact.id for fact in facts if fact.id not in known]
    return next((name for name in [*words, *open_facts] if name not in state.passed), None)


def _next_visit(state: CaseState, visits: tuple[VisitResult, ...]) -> VisitResult | None:
    """The first visit of the plan, without what was put off since the last test start as long as
    anything else is left.
    """
    put_off = {attempt.step for attempt in state.tried if attempt.why is WhyNotRun.NO_TIME} & {
        report.step for report in state.since_start
    }
    for visit in visits:
        steps = tuple(step for step in visit.steps if step.id not in put_off)
        if steps:
            return msgspec.structs.replace(visit, steps=steps)
    return visits[0] if visits else None


# What an answer at a prompt changes in a case.


_ANSWERS = Saw | Learned | Heard | Listed | Tried | Started | PassedOver | Checked | HandedOver
"""Events that are an answer to a prompt."""


def taken(case: Case, pack: Pack, hand: Hand, prompt: Prompt, answer: str) -> Case:
    """Record an answer: the name of one of the prompt's answers, or words where it takes them.

    Raises:
        UsageError, RefusedError, InputError
    """
    about = prompt.about
    match prompt.kind:
        case PromptKind.FACT:
            check_answers(pack.facts, {about: answer}, "fact")
            return record(case, hand, Learned(at=hand.since, facts={about: answer}, asked=True))
        case PromptKind.SIGN:
            check_answers(pack.signs, {about: answer}, "sign")
            return record(case, hand, Saw(at=hand.since, signs={about: answer}, asked=True))
        case PromptKind.STEP | PromptKind.REPAIR:
            return _reported(case, pack, hand, about, answer)
        case PromptKind.START | PromptKind.WATCH:
            return started(case, hand, answer == "yes", watch=answer == "watch")
        case PromptKind.HAND_OVER if answer in pack.steps:
            return _beyond_the_plan(case, pack, hand, answer)
        case PromptKind.HAND_OVER:
            return work.handed_over(case, pack, hand, prompt.answers.get(answer, answer))
        case PromptKind.TAKE_UP:
            return work.reopened(case, hand) if answer == "yes" else case
        case PromptKind.COLD if answer == "no":
            return started(case, hand, False)
    return record(case, hand, _checked(prompt, hand, answer))


def _beyond_the_plan(case: Case, pack: Pack, hand: Hand, step: str) -> Case:
    """Begin a step that costs more than handing over, with what it needs first.

    Raises:
        UsageError: it is not among what is left.
    """
    left = [row for row in plan_of(case.state, pack).dearer if row.id == step]
    if not left:
        raise UsageError(f"{step} is not among what is left to do.", "See: mending plan CASE --all")
    return begin_visit(case, hand, left[0].visits[0])[0]


def taken_in_words(case: Case, hand: Hand, prompt: Prompt, statement: Statement) -> Case:
    """Record an answer in somebody's own words, as it was understood."""
    return record(case, hand, heard(statement, hand.since, prompt.about))


def _checked(prompt: Prompt, hand: Hand, answer: str) -> Checked:
    subject = {
        PromptKind.COLD: work.COLD,
        PromptKind.CAUSE: work.CAUSE,
        PromptKind.FIX: work.FIX,
        PromptKind.MINUTES: work.MINUTES,
        PromptKind.PUT_BACK: work.put_back_key(prompt.about),
    }[prompt.kind]
    return Checked(at=hand.since, about=subject, says=clean_text(answer))


def _reported(case: Case, pack: Pack, hand: Hand, step: str, answer: str) -> Case:
    why = WhyNotRun(answer) if answer in set(WhyNotRun) else None
    report = ReportKind.NOT_RUN if why is not None else ReportKind(answer)
    return tried(case, pack, hand, step, report, why=why)


def passed_over(case: Case, pack: Pack, hand: Hand, prompt: Prompt, put_off: bool = False) -> Case:
    """Record that a prompt gets no answer.

    Args:
        put_off: only for now, where that makes a difference: a step is asked for again.

    Raises:
        UsageError: a prompt that needs one.
    """
    match prompt.kind:
        case PromptKind.FACT | PromptKind.SIGN:
            return taken(case, pack, hand, prompt, UNKNOWN)
        case PromptKind.WORDS:
            return record(case, hand, PassedOver(at=hand.since, question=prompt.about))
        case PromptKind.STEP | PromptKind.REPAIR:
            why = WhyNotRun.NO_TIME if put_off else None
            return tried(case, pack, hand, prompt.about, ReportKind.NOT_RUN, why=why)
        case PromptKind.MINUTES:
            return record(case, hand, _checked(prompt, hand, ""))
    raise UsageError("This one needs an answer.", "`stop` stops here, and nothing is lost.")


def come_back(case: Case, hand: Hand) -> Case:
    """Take the newest answer back.

    Raises:
        UsageError: there is none.
        RefusedError: it was written to the disk.
    """
    answers = [number for number in still_counting(case.events) if _is_answer(case.events[number])]
    if not answers:
        raise UsageError("There is no answer to take back.")
    return entry_taken_back(case, hand, answers[-1])


def _is_answer(event: AnyEvent) -> bool:
    """Whether somebody said it at a prompt: what opening a case notes down without a word of its
    own is none.
    """
    if isinstance(event, Learned):
        return bool(event.facts or event.notes or event.shop)
    return isinstance(event, _ANSWERS)


def note(case: Case, hand: Hand, prompt: Prompt, text: str) -> Case:
    """Record somebody's own words, beside the step that is asked about."""
    about = prompt.about if prompt.card is not None else ""
    return record(case, hand, Noted(at=hand.since, text=clean_text(text), about=about))
