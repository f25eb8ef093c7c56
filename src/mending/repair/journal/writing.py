"""Changes made on a target and read back: the one place where a target is written."""

import contextlib
import signal
from collections.abc import Iterator, Sequence

from mending.model import Change, ReadError, RepairFailedError
from mending.source import Target


def state_on(target: Target, changes: Sequence[Change]) -> str:
    """`done` or `undone` where all changes, or none, are on the target; empty in between."""
    now = [target.current(change) for change in changes]
    if all(data == change.after for data, change in zip(now, changes, strict=True)):
        return "done"
    if all(data == change.before for data, change in zip(now, changes, strict=True)):
        return "undone"
    return ""


def put_back(target: Target, changes: Sequence[Change]) -> None:
    """Make it the bytes before, the last change first; what is as before is not written."""
    other = [change for change in changes if _now(target, change) != change.before]
    if other:
        write(target, [change.turned_round() for change in reversed(other)])


def _now(target: Target, change: Change) -> bytes | None:
    """What stands where a change goes; what cannot be read is not what it was."""
    try:
        return target.current(change)
    except ReadError:
        return None if change.before is not None else b""


def write(target: Target, changes: Sequence[Change]) -> None:
    """Make the changes and read them back.

    Raises:
        RepairFailedError, InputError, RefusedError
    """
    target.apply(changes)
    for change in changes:
        if target.current(change) != change.after:
            says = f"{change.shown} read back differently from what was written."
            raise RepairFailedError(says, "The drive may be failing: copy it before anything else.")


@contextlib.contextmanager
def no_interrupt() -> Iterator[None]:
    """The interrupt key waits until this is over; it comes after all."""
    blocked = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, blocked)
