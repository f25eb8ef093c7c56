"""What UEFI firmware remembers: variables in a dump of its store, or as Linux shows them, a file
each.

Sources: UEFI Platform Initialization Specification 1.7, volume 3, section 3.2.1 (firmware volume
header); EDK II, `MdeModulePkg/Include/Guid/VariableFormat.h` (variable store, both kinds of
headers); Linux `Documentation/filesystems/ efivarfs.rst` (four bytes of attributes in front).
"""

import struct
import uuid

import msgspec

from mending.model import Problem, Reading, Window, plain_utf16

GLOBAL = uuid.UUID("8be4df61-93ca-11d2-aa0d-00e098032b8c")
"""Owner of the variables that the specification defines."""
_VOLUME_SIGNATURE, _SIGNATURE_AT, _LENGTH_AT = b"_FVH", 40, 48
_STORES = {
    uuid.UUID("aaf32c78-947b-439a-a180-2e144ec37792"): 60,
    uuid.UUID("ddcf3616-3275-4164-98b6-fe85707ffe7d"): 32,
}
"""Kinds of stores, and how long the header of a variable is in each."""
_STORE_HEAD = 28
_START, _ADDED, _LEAVING = 0x55AA, 0x3F, 0x3E
_MOST = 4096
_NAME_BYTES = 1024


class Variable(msgspec.Struct, frozen=True):
    """One variable. `owner` tells same names of different makers apart."""

    name: str
    owner: uuid.UUID
    data: bytes


def is_store(head: bytes) -> bool:
    """Whether a file starts as a dump of a store does. Args: head: its first 100 bytes."""
    start = int.from_bytes(head[_LENGTH_AT : _LENGTH_AT + 2], "little")
    if head[_SIGNATURE_AT : _SIGNATURE_AT + 4] != _VOLUME_SIGNATURE or len(head) < start + 16:
        return False
    return uuid.UUID(bytes_le=head[start : start + 16]) in _STORES


def read_store(window: Window) -> Reading[tuple[Variable, ...]]:
    """The variables of a dump that are in force. Any bytes give a record.

    A variable that was being replaced when the power went counts where no newer one of its name is
    there.
    """
    data = window.data
    if not is_store(data[:100]):
        found = data[_SIGNATURE_AT : _SIGNATURE_AT + 4].hex(" ") or "nothing"
        return Reading(
            (), (Problem("no-store", window.offset, 4, found, "the head of a variable store"),)
        )
    start = int.from_bytes(data[_LENGTH_AT : _LENGTH_AT + 2], "little")
    size = int.from_bytes(data[start + 16 : start + 20], "little")
    head = _STORES[uuid.UUID(bytes_le=data[start : start + 16])]
    problems = []
    if start + size > len(data):
        problems.append(
            Problem(
                "store-cut", window.offset + len(data), 0, f"{len(data)} bytes", f"{start + size}"
            )
        )
    in_force: dict[tuple[str, uuid.UUID], Variable] = {}
    leaving: dict[tuple[str, uuid.UUID], Variable] = {}
    at, end = start + _STORE_HEAD, min(start + size, len(data))
    for _ in range(_MOST):
        row = _row(data, at, end, head)
        if row is None:
            break
        state, variable, at = row
        target = in_force if state == _ADDED else leaving if state == _LEAVING else {}
        target[variable.name, variable.owner] = variable
    return Reading(tuple({**leaving, **in_force}.values()), tuple(problems))


def _row(data: bytes, at: int, end: int, head: int) -> tuple[int, Variable, int] | None:
    """State, variable, and where the next one starts; None behind the last."""
    if at + head > end or int.from_bytes(data[at : at + 2], "little") != _START:
        return None
    name_bytes, data_bytes = struct.unpack_from("<II", data, at + head - 24)
    first = at + head
    last = first + name_bytes + data_bytes
    if name_bytes > _NAME_BYTES or last > end:
        return None
    owner = uuid.UUID(bytes_le=data[at + head - 16 : at + head])
    name = plain_utf16(data[first : first + name_bytes])
    return data[at + 2], Variable(name, owner, data[first + name_bytes : last]), -(-last // 4) * 4


def read_file(name: str, data: bytes) -> Variable | None:
    """A variable as Linux shows it; None for a file that is none. Args: name: of the file,
    `NAME-OWNER`.
    """
    short, owner = name[:-37], name[-36:]
    try:
        return Variable(short, uuid.UUID(owner), data[4:]) if short and len(data) >= 4 else None
    except ValueError:
        return None
