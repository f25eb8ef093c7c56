"""The key of a locked volume, asked for without echo or read from a file; it goes nowhere else."""

import os
import sys
from collections.abc import Callable
from pathlib import Path

import click

from mending.cli.host import this_host
from mending.disk.locked import GivenKey
from mending.model import InputError

_LONGEST = 8 << 20


def given_key(ask: bool, key_file: str | None, patient: bool) -> GivenKey | None:
    """A key, and what it may cost; None where none is given.

    Args:
        key_file: a file, all of whose bytes are the key; `/dev/fd/N` for a descriptor.
        patient: it may cost anything.

    Raises:
        InputError: the file cannot be read, or is no key.
    """
    secret = _secret(ask, key_file)
    if secret is None:
        return None
    return GivenKey(secret, _memory(), _allowing(), patient)


def _secret(ask: bool, key_file: str | None) -> bytes | None:
    if key_file is not None:
        try:
            with Path(key_file).open("rb") as file:
                data = file.read(_LONGEST + 1)
        except (OSError, ValueError) as error:
            says = error.strerror if isinstance(error, OSError) else "no such name can be"
            raise InputError(f"{key_file} cannot be read: {says}.") from error
        if not 0 < len(data) <= _LONGEST:
            raise InputError(f"{key_file} has {len(data)} bytes, which are no key.")
        return data
    if not ask:
        return None
    if sys.stdin.isatty():
        words: str = click.prompt("passphrase", hide_input=True, err=True)
        return words.encode()
    return sys.stdin.buffer.readline().rstrip(b"\n")


def _allowing() -> Callable[[str], bool] | None:
    ask = this_host().ask
    return None if ask is None else lambda says: ask(f"{says} Try it?")


def _memory() -> int:
    """Bytes of memory of this machine; 0 where it does not tell."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (OSError, ValueError):
        return 0
