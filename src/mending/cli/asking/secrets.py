"""The key of a locked volume, asked for without echo or read from a file; it goes nowhere else."""

import sys
from pathlib import Path

import click

from mending.model import InputError

_LONGEST = 8 << 20


def given_secret(ask: bool, key_file: str | None) -> bytes | None:
    """The bytes of a key; None where none is given.

    Args:
        key_file: a file, all of whose bytes are the key; `/dev/fd/N` for a descriptor.

    Raises:
        InputError: the file cannot be read, or is no key.
    """
    if key_file is not None:
        try:
            with Path(key_file).open("rb") as file:
                data = file.read(_LONGEST + 1)
        except OSError as error:
            raise InputError(f"{key_file} cannot be read: {error.strerror}.") from error
        if not 0 < len(data) <= _LONGEST:
            raise InputError(f"{key_file} has {len(data)} bytes, which are no key.")
        return data
    if not ask:
        return None
    if sys.stdin.isatty():
        words: str = click.prompt("passphrase", hide_input=True, err=True)
        return words.encode()
    return sys.stdin.buffer.readline().rstrip(b"\n")
