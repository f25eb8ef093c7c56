"""Boot entries of UEFI firmware: what one starts, written as a path of devices.

Sources: UEFI Specification 2.10, sections 3.1.3 "Load Options" and 10.3 "Device Path Nodes".
"""

import struct
import uuid

import msgspec

from mending.model import Problem, Reading, plain_utf16

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


def read(data: bytes) -> Reading[LoadOption]:
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


def order(data: bytes) -> tuple[str, ...]:
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
