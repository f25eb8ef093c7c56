"""Parsed copies of knowledge, kept from call to call.

Parsing and checking TOML takes longer than everything else that a short command does. A copy
carries in its name a digest of the files it was made from and of the code that gives them their
shape; it saves time and nothing else. One that is missing, cannot be decoded, or cannot be written
is passed over.
"""

from collections.abc import Callable, Iterable
from contextlib import suppress
from hashlib import blake2b
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from mending.model import InputError

T = TypeVar("T")
_CODE = ("schema.py", "steps.py", "cards.py", "check.py", "check_steps.py", "codes.py", "load.py")


def kept(
    kind: type[T], folder: Any, names: Iterable[str], make: Callable[[], T], parsed_in: Path
) -> T:
    """What `make` gives, out of a copy where there is one.

    Args:
        kind: the type of the record.
        folder: where the files are that it is made from.
        names: of these files.
        parsed_in: where copies are kept.

    Raises:
        InputError: a file cannot be read, or as `make` does.
    """
    copy = parsed_in / f"{kind.__name__.lower()}-{_digest(folder, names)}.msgpack"
    try:
        return msgspec.msgpack.decode(copy.read_bytes(), type=kind)
    except (OSError, msgspec.DecodeError):
        made = make()
    with suppress(OSError):
        _put(msgspec.msgpack.encode(made), copy)
    return made


def _put(data: bytes, copy: Path) -> None:
    """Write a copy whole or not at all, and take away those of other files."""
    from tempfile import NamedTemporaryFile  # noqa: PLC0415 - lazy: copies are seldom made

    copy.parent.mkdir(parents=True, exist_ok=True)
    with NamedTemporaryFile(dir=copy.parent, prefix=".new-", delete=False) as file:
        file.write(data)
    Path(file.name).replace(copy)
    for older in copy.parent.glob(f"{copy.name.partition('-')[0]}-*.msgpack"):
        if older != copy:
            older.unlink()


def _digest(folder: Any, names: Iterable[str]) -> str:
    digest = blake2b(digest_size=16)
    code = Path(__file__).parent
    for place, name in [(folder, name) for name in names] + [(code, name) for name in _CODE]:
        try:
            digest.update(place.joinpath(name).read_bytes())
        except OSError as error:
            raise InputError(f"Knowledge pack: {name} cannot be read: {error}.") from error
    return digest.hexdigest()
