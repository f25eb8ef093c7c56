"""Prompts in words: a question, a step with all that has to be known to do it, a test start."""

from mending.case.events import HandedOver
from mending.case.guide.prompts import Prompt, PromptKind, StepCard
from mending.case.state import CaseState
from mending.case.thinking import card_facts, causes_of, filled_of
from mending.knowledge import UNKNOWN, Pack, Step, how_to
from mending.model import Place
from mending.plan import PlanResult
from mending.reason import ReportKind

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
        tells=row.tells,
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
