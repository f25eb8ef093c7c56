"""The key of this machine: undo points, and what cases name outside of themselves, are sealed with
it, so that a folder from elsewhere cannot make us write or read what it likes.
"""

import secrets
from pathlib import Path

from mending.model import InputError
from mending.source.durable_files import make_file_durably, read_file

_KEY_BYTES = 32


def machine_key(path: Path) -> bytes:
    """The key of this machine, made at its first use; readable by its owner alone. Raises
    InputError.
    """
    if not path.exists():
        make_file_durably(path, secrets.token_bytes(_KEY_BYTES))
    key = read_file(path, _KEY_BYTES)
    if len(key) < _KEY_BYTES:
        raise InputError(f"{path} is no key.", "Move it away; a new one is made.")
    return key


def known_key(path: Path) -> bytes | None:
    """The key of this machine; None where it has sealed nothing yet. Raises InputError."""
    return machine_key(path) if path.exists() else None
