"""Our errors, each with its exit status.

MendingError
├── UsageError          2  the words of the command do not fit
├── InputError          3  the input cannot be read or is not what it says
│   ├── ReadError       3  one range of the input cannot be read
│   └── DamagedFileError 3  one file on a volume cannot be read to its end; others can
├── TookTooMuchError    3  reading took more time or memory than a command may
├── NotGatheredError    3  a bundle does not hold what is asked for; that is no damage
├── RefusedError        4  a guard says no; the hint says what would lift it
└── RepairFailedError   5  a repair failed and was rolled back
"""

import sys
from functools import cache
from importlib import import_module
from importlib.util import find_spec
from types import ModuleType
from typing import ClassVar


class MendingError(Exception):
    """Something the person at the keyboard should read.

    Args:
        says: one sentence: what thing, and what is wrong with it.
        hint: what to do about it; may be empty.
    """

    exit_status: ClassVar[int] = 1

    def __init__(self, says: str, hint: str = "") -> None:
        super().__init__(says)
        self.says = says
        self.hint = hint


class UsageError(MendingError):
    """The command was called in a way that makes no sense."""

    exit_status = 2


class InputError(MendingError):
    """The input cannot be read, or is not what it says."""

    exit_status = 3


class ReadError(InputError):
    """One range of an input that is otherwise readable cannot be read.

    Args:
        offset: where the unreadable range starts, in bytes from the start of the source.
        length: its length in bytes.
    """

    def __init__(self, says: str, offset: int, length: int, hint: str = "") -> None:
        super().__init__(says, hint)
        self.offset = offset
        self.length = length


class DamagedFileError(InputError):
    """The own record, chain or map of one file on a volume is damaged; other files can be read."""


class NotGatheredError(MendingError):
    """A bundle does not hold this part of the disk. Not an `InputError`: handlers of damage must
    not catch it.
    """

    exit_status = 3


class TookTooMuchError(MendingError):
    """Reading took more time or memory than one command may. Not an `InputError`:
    handlers of damage must not catch it.
    """

    exit_status = 3


class RefusedError(MendingError):
    """A guard does not allow it.

    Args:
        option: what, added to the command, would settle it; empty where nothing would.
    """

    exit_status = 4

    def __init__(self, says: str, hint: str = "", option: str = "") -> None:
        super().__init__(says, hint)
        self.option = option


class RepairFailedError(MendingError):
    """A repair did not work and everything was put back."""

    exit_status = 5


# Heavy packages, loaded when first needed: most commands never need them, and they are slow to
# load.


def load_extra(package: str, extra: str) -> ModuleType:
    """A package that an extra brings.

    Raises:
        UsageError: the extra is not installed.
    """
    try:
        return import_module(package)
    except ImportError as error:
        raise UsageError(
            f"This needs the package {package}.", f"Install mending with its extra `{extra}`."
        ) from error


@cache
def load_numpy() -> ModuleType:
    """NumPy, which every install has, but few commands need."""
    return import_module("numpy")


@cache
def load_unpacker(name: str) -> ModuleType:
    """`zstandard` or `lz4.block`, which every install has, but only packed files need."""
    return import_module(name)


@cache
def load_rapidfuzz() -> ModuleType:
    """RapidFuzz, which every install has, but only what was mistyped needs."""
    return import_module("rapidfuzz")


def has_extra(package: str) -> bool:
    """Whether a package is installed, without loading it."""
    if package in sys.modules:
        return sys.modules[package] is not None
    return find_spec(package) is not None
