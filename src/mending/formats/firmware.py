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


def read_variable_file(name: str, data: bytes) -> Variable | None:
    """A variable as Linux shows it; None for a file that is none. Args: name: of the file,
    `NAME-OWNER`.
    """
    short, owner = name[:-37], name[-36:]
    try:
        return Variable(short, uuid.UUID(owner), data[4:]) if short and len(data) >= 4 else None
    except ValueError:
        return None


# Boot entries of UEFI firmware: what one starts, written as a path of devices.
#
# Sources: UEFI Specification 2.10, sections 3.1.3 "Load Options" and 10.3 "Device Path Nodes".


_ACTIVE, _CATEGORY, _APP = 1, 0x1F00, 0x100
_END, _HARDWARE, _ACPI, _MESSAGING, _MEDIA, _LEGACY = 0x7F, 1, 2, 3, 4, 5
_HARD_DRIVE, _FILE, _BUILT_IN = 1, 4, {6, 7}
_NETWORK = {11, 12, 13, 24, 31}
_MOST_NODES = 64
_GUID_SIGNATURE, _MBR_SIGNATURE = 2, 1


class Drive(msgspec.Struct, frozen=True):
    """The partition that a path names. `partition` is written as Linux writes a PARTUUID."""

    number: int
    start: int
    sectors: int
    partition: str


class LoadOption(msgspec.Struct, frozen=True):
    """One boot entry.

    Attributes:
        active: whether firmware tries it by itself.
        kind: `partition` (a partition is named), `device` (a whole device), `built-in`, `network`,
            `legacy`, `unknown`.
        drive: the partition; None where none is named.
        file: path of the loader, with slashes; empty where the fallback file is meant.
        command_line: what is handed to the loader, as text.
    """

    active: bool
    title: str
    kind: str
    drive: Drive | None
    file: str
    command_line: str


def read_load_option(data: bytes) -> Reading[LoadOption]:
    """Read the content of a `Boot####` variable. Any bytes give a record."""
    if len(data) < 8:
        short = Problem("too-short", 0, len(data), f"{len(data)} bytes", "a boot entry")
        return Reading(LoadOption(False, "", "unknown", None, "", ""), (short,))
    attributes, length = struct.unpack_from("<IH", data)
    end = 6
    while end + 2 <= len(data) and data[end : end + 2] != b"\0\0":
        end += 2
    path = data[end + 2 : end + 2 + length]
    nodes, whole = _nodes(path)
    drive = next(
        (_drive(body) for kind, sub, body in nodes if (kind, sub) == (_MEDIA, _HARD_DRIVE)), None
    )
    parts = [
        plain_utf16(body).replace("\\", "/")
        for kind, sub, body in nodes
        if (kind, sub) == (_MEDIA, _FILE)
    ]
    active = bool(attributes & _ACTIVE) and attributes & _CATEGORY != _APP
    command_line = plain_utf16(data[end + 2 + length :]).strip()
    option = LoadOption(
        active, plain_utf16(data[6:end]), _kind(nodes, drive), drive, "/".join(parts), command_line
    )
    problem = Problem(
        "path-cut", end + 2, len(path), "a path of devices without its end", "an end node"
    )
    return Reading(option, () if whole else (problem,))


def read_order(data: bytes) -> tuple[str, ...]:
    """Names of the entries in a `BootOrder` or `BootNext` variable, first to last."""
    numbers = struct.unpack(f"<{len(data) // 2}H", data[: len(data) // 2 * 2])
    return tuple(f"Boot{number:04X}" for number in numbers)


def _nodes(path: bytes) -> tuple[list[tuple[int, int, bytes]], bool]:
    """Type, subtype and body of each node, and whether the path comes to its end."""
    found: list[tuple[int, int, bytes]] = []
    at = 0
    while at + 4 <= len(path) and len(found) < _MOST_NODES:
        kind, sub, length = struct.unpack_from("<BBH", path, at)
        if kind == _END:
            return found, True
        if length < 4 or at + length > len(path):
            return found, False
        found.append((kind, sub, path[at + 4 : at + length]))
        at += length
    return found, False


def _drive(body: bytes) -> Drive | None:
    if len(body) < 38:
        return None
    number, start, sectors = struct.unpack_from("<IQQ", body)
    signature, kind = body[20:36], body[37]
    partition = str(uuid.UUID(bytes_le=signature)) if kind == _GUID_SIGNATURE else ""
    if kind == _MBR_SIGNATURE:
        partition = f"{int.from_bytes(signature[:4], 'little'):08x}-{number:02x}"
    return Drive(number, start, sectors, partition)


def _kind(nodes: list[tuple[int, int, bytes]], drive: Drive | None) -> str:
    kinds = {(kind, sub) for kind, sub, _ in nodes}
    if drive is not None:
        return "partition"
    if any(kind == _MEDIA and sub in _BUILT_IN for kind, sub in kinds):
        return "built-in"
    if any(kind == _MESSAGING and sub in _NETWORK for kind, sub in kinds):
        return "network"
    if any(kind == _LEGACY for kind, _ in kinds):
        return "legacy"
    return (
        "device" if any(kind in {_HARDWARE, _ACPI, _MESSAGING} for kind, _ in kinds) else "unknown"
    )
