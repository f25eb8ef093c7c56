"""Binary event logs of the nt family (EVTX), read with the package `evtx`.

Source of the mark: the maker's open specification of the file format (file header: `ElfFile`, NUL).
"""

from collections.abc import Iterator
from typing import Any, BinaryIO

import msgspec

from mending.model import InputError, load_extra

_MARK = b"ElfFile\0"


def is_log(head: bytes) -> bool:
    """Whether a file begins as such a log does."""
    return head.startswith(_MARK)


def events(stream: BinaryIO) -> Iterator[Any]:
    """The events as JSON objects, in the order of the file; damaged ones are passed over.

    Args:
        stream: the file; it must be possible to seek in it.

    Raises:
        InputError: the file's own header cannot be read.
        UsageError: the extra `logs` is not installed.
    """
    package = load_extra("evtx", "logs")
    try:
        rows = iter(package.PyEvtxParser(stream, number_of_threads=1).records_json())
    except (RuntimeError, OSError, ValueError) as error:
        raise InputError("It begins as an event log, but its header is damaged.") from error
    while True:
        try:
            row = next(rows)
        except StopIteration:
            return
        except (
            RuntimeError,
            OSError,
            ValueError,
        ):  # one record that cannot be read; the next ones can
            continue
        try:
            yield msgspec.json.decode(row["data"])
        except (msgspec.DecodeError, RecursionError):
            continue
