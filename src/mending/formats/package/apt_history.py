"""The history that a package manager keeps of what it was asked for: paragraphs, one a call.

Source: `apt-history` as apt 2.6 writes it (apt-pkg/deb/dpkgpm.cc, `OpenLog`): `Start-Date`, then a
field for each kind of change with `name:architecture (versions)`, between commas.
"""

import re
from collections.abc import Iterator
from typing import BinaryIO

from mending.model import LogRecord, read_time

_BEGINS = b"Start-Date: "
_LONGEST = 1 << 20
_ONE = re.compile(r"([a-z0-9][a-z0-9+.-]*)(?::\w+)? \(([^()]*)\)")
_ACTIONS = {
    "Install": "install {name} <none> {new}",
    "Upgrade": "upgrade {name} {old} {new}",
    "Downgrade": "upgrade {name} {old} {new}",
    "Remove": "remove {name} {old} <none>",
    "Purge": "remove {name} {old} <none>",
}


def is_history(head: bytes) -> bool:
    """Whether a file begins as such a history does."""
    return head.lstrip().startswith(_BEGINS)


def read_history(stream: BinaryIO) -> Iterator[LogRecord]:
    """Each change as the package system below writes it in its own log."""
    at: float | None = None
    number = 0
    while line := stream.readline(_LONGEST):
        number += 1
        name, _, words = line.decode("utf-8", "replace").rstrip().partition(": ")
        if name == "Start-Date":
            read = read_time(" ".join(words.split()))
            at = read[0] if read is not None else None
        action = _ACTIONS.get(name)
        if action is None or at is None:
            continue
        for package, versions in _ONE.findall(words):
            parts = [part for part in versions.split(", ") if part != "automatic"] or ["?"]
            text = action.format(name=package, old=parts[0], new=parts[-1])
            yield LogRecord(at=at, text=text, line=number, zoned=False)
