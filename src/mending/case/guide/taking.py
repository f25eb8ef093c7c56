"""What an answer at a prompt changes in a case."""

from mending.case import closing
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
)
from mending.case.folder import Case, record
from mending.case.guide.leading import begin_visit
from mending.case.guide.prompts import Prompt, PromptKind
from mending.case.state import still_counting
from mending.case.thinking import plan_of
from mending.case.work import check_answers, entry_taken_back, heard, started, tried
from mending.knowledge import UNKNOWN, Pack, ReportKind, WhyNotRun
from mending.model import Hand, UsageError, clean_text
from mending.reason import Statement

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
            return closing.handed_over(case, pack, hand, prompt.answers.get(answer, answer))
        case PromptKind.TAKE_UP:
            return closing.reopened(case, hand) if answer == "yes" else case
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
        PromptKind.COLD: closing.COLD,
        PromptKind.CAUSE: closing.CAUSE,
        PromptKind.FIX: closing.FIX,
        PromptKind.MINUTES: closing.MINUTES,
        PromptKind.PUT_BACK: closing.put_back_key(prompt.about),
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
