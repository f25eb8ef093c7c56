"""One writer at a time: the next one waits a little, then is told who holds the case."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from mending.model import Hand, InputError, RefusedError
from mending.source import read_file, write_durably

_LOCK_FILE = "lock"
_HOLDER_FILE = "holder.json"


@contextmanager
def held(folder: Path, hand: Hand) -> Iterator[None]:
    """Hold the case folder.

    Raises:
        RefusedError: somebody else holds it; says who.
        InputError: the folder cannot be written.
    """
    import filelock  # noqa: PLC0415 - lazy: what only reads a case holds nothing

    lock = filelock.FileLock(folder / _LOCK_FILE, timeout=hand.patience)
    try:
        lock.acquire()
    except filelock.Timeout as error:
        raise RefusedError(
            f"The case {folder} is held by {_holder(folder)}.", "Wait for it to end."
        ) from error
    except OSError as error:
        raise InputError(
            f"The case {folder} cannot be written: {error.strerror or error}."
        ) from error
    try:
        write_durably(folder / _HOLDER_FILE, msgspec.json.encode(hand))
        yield
    finally:
        lock.release()


def _holder(folder: Path) -> str:
    try:
        hand = msgspec.json.decode(read_file(folder / _HOLDER_FILE, 4096), type=Hand)
    except (InputError, msgspec.DecodeError):
        return "another program"  # it has the lock but has not yet said its name
    return f"{hand.who} since {hand.since}"
