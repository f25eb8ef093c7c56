"""The end of a case: what was wrong, what mended it, and that nothing temporary was left behind."""

from collections.abc import Mapping

from mending.case.events import Checked, Closed, HandedOver, Reopened
from mending.case.folder import Case, record
from mending.case.thinking import causes_of
from mending.knowledge import Pack, ReportKind
from mending.model import Hand, RefusedError, UsageError, clean_text, quoted

DONE = "done"
"""Said of a temporary setting that was put back."""
COLD, CAUSE, FIX, MINUTES = "cold", "cause", "fix", "minutes"
"""What is settled on the way to closing, beside what has to be put back."""


def put_back_key(step: str) -> str:
    """Under which name it is settled what a step changed for a time."""
    return f"put-back {step}"


def to_put_back(case: Case, pack: Pack) -> dict[str, str]:
    """By step what has to be put back, of all that was really done."""
    done = [
        pack.steps[attempt.step]
        for attempt in case.state.tried
        if attempt.step in pack.steps and attempt.report is not ReportKind.NOT_RUN
    ]
    return {step.id: step.put_back for step in done if step.put_back}


def closed(
    case: Case,
    pack: Pack,
    hand: Hand,
    cause: str,
    fix: str,
    put_back: Mapping[str, str],
    minutes: float | None = None,
    elsewhere: bool = False,
) -> Case:
    """Record the end of a case.

    Args:
        cause: the id of a cause, or somebody's own words.
        fix: the id of a step, or somebody's own words.
        put_back: for every step with something to put back `done`, or why it stays.
        minutes: of work, all in all.
        elsewhere: the fix was done by somebody else, or is not recorded.

    Raises:
        RefusedError: the newest test start did not say that the PC works, or the fix was never
            tried.
        UsageError: something that is to be put back was not spoken of.
    """
    if not case.state.works:
        raise RefusedError(
            "The newest test start does not say that it works.",
            "Start it from cold, sign in, try what failed:"
            f" mending started {quoted(case.folder)} yes",
        )
    open_ones = [step for step in to_put_back(case, pack) if not put_back.get(step)]
    if open_ones:
        raise UsageError(
            f"To be put back first: {', '.join(open_ones)}.",
            "Say STEP=done, or why it stays: --put-back STEP=WHY",
        )
    for name, text in (("cause", cause), ("fix", fix)):
        if not text.strip():
            raise UsageError(f"What was the {name}?", f"Name it: --{name}")
    done = {
        each.step
        for each in case.state.tried
        if each.report is not ReportKind.NOT_RUN and not each.told
    }
    if fix in pack.steps and fix not in done and not elsewhere:
        raise RefusedError(
            f"{fix} was not tried in this case.",
            "Name what was, or say that it was done elsewhere: --elsewhere",
        )
    said = {step: clean_text(text) for step, text in put_back.items()}
    event = Closed(
        at=hand.since,
        cause=clean_text(cause),
        fix=clean_text(fix),
        put_back=said,
        minutes=minutes,
    )
    return record(case, hand, event)


def checked(case: Case, hand: Hand, said: Mapping[str, str]) -> Case:
    """Record what is settled already on the way to closing, by subject."""
    events = [
        Checked(at=hand.since, about=about, says=clean_text(words)) for about, words in said.items()
    ]
    return record(case, hand, *events)


def handed_over(case: Case, pack: Pack, hand: Hand, to: str, cause: str | None = None) -> Case:
    """Record that somebody else goes on.

    Args:
        cause: what is held to be wrong; None: the likeliest.

    Raises:
        UsageError: nobody was named.
    """
    if not to.strip():
        raise UsageError("To whom is it handed over?", "Name them: --handed-over TO")
    ranked = causes_of(case.state, pack).causes
    held = cause or (ranked[0].id if ranked else "")
    event = HandedOver(at=hand.since, to=clean_text(to), cause=clean_text(held))
    return record(case, hand, event)


def reopened(case: Case, hand: Hand) -> Case:
    """Record that work goes on.

    Raises:
        RefusedError: the case is neither closed nor handed over.
    """
    if case.state.closed is None and case.state.handed_over is None:
        raise RefusedError("The case is open.")
    return record(case, hand, Reopened(at=hand.since))
