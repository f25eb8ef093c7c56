"""One writer at a time: the next one waits a little, then is told who holds the case."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from mending.model import Hand, InputError, RefusedError, decode_json, encode_json
from mending.source import read_file, write_durably

LOCK_FILE = "lock"
HOLDER_FILE = "holder.json"
_OWNER_ALONE = 0o600


@contextmanager
def held(folder: Path, hand: Hand) -> Iterator[None]:
    """Hold the case folder.

    Raises:
        RefusedError: somebody else holds it; says who.
        InputError: the folder cannot be written.
    """
    import filelock  # noqa: PLC0415 - lazy: what only reads a case holds nothing

    lock = filelock.FileLock(folder / LOCK_FILE, timeout=hand.patience, mode=_OWNER_ALONE)
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
        write_durably(folder / HOLDER_FILE, encode_json(hand))
        yield
    finally:
        lock.release()


def _holder(folder: Path) -> str:
    try:
        hand = decode_json(read_file(folder / HOLDER_FILE, 4096, links=False), Hand)
    except (InputError, msgspec.DecodeError):
        return "another program"  # it has the lock but has not yet said its name
    return f"{hand.who} since {hand.since}"
