"""The end of a case: what was wrong, what mended it, and that nothing temporary was left behind."""

from collections.abc import Mapping

from mending.case.events import Closed, Reopened
from mending.case.folder import Case, record
from mending.knowledge import Pack, ReportKind
from mending.model import Hand, RefusedError, UsageError, clean_text

DONE = "done"
"""Said of a temporary setting that was put back."""


def to_put_back(case: Case, pack: Pack) -> dict[str, str]:
    """By step what has to be put back, of all that was really done."""
    done = [
        pack.steps[attempt.step]
        for attempt in case.state.tried
        if attempt.step in pack.steps and attempt.report is not ReportKind.NOT_RUN
    ]
    return {step.id: step.put_back for step in done if step.put_back}


def closed(
    case: Case, pack: Pack, hand: Hand, cause: str, fix: str, put_back: Mapping[str, str]
) -> Case:
    """Record the end of a case.

    Args:
        cause: the id of a cause, or somebody's own words.
        fix: the id of a step, or somebody's own words.
        put_back: for every step with something to put back `done`, or why it stays.

    Raises:
        RefusedError: the newest test start did not say that the PC works.
        UsageError: something that is to be put back was not spoken of.
    """
    if not case.state.works:
        raise RefusedError(
            "The newest test start does not say that it works.",
            f"Start it from cold, sign in, try what failed: mending started {case.folder} yes",
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
    said = {step: clean_text(text) for step, text in put_back.items()}
    event = Closed(at=hand.since, cause=clean_text(cause), fix=clean_text(fix), put_back=said)
    return record(case, hand, event)


def reopened(case: Case, hand: Hand) -> Case:
    """Record that work goes on.

    Raises:
        RefusedError: the case is not closed.
    """
    if case.state.closed is None:
        raise RefusedError("The case is open.")
    return record(case, hand, Reopened(at=hand.since))
