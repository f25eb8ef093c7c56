"""Elements of a boot configuration store: their numbers, and the devices that they name.

A store is a hive. Below `Objects` is a key for each object, named by its GUID; below its `Elements`
a key for each element, named by its number in eight hexadecimal digits; the number's upper digits
say what for (1 everything, 2 the kind of object) and of what format. The layout of a device is not
published by its maker; it is given here as open boot programs write it, and a device of another
form is kept raw.
"""

import struct
import uuid

import msgspec

BOOT_MANAGER = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
"""The object of the boot manager itself."""
SYSTEM_LOADER, RESUME_LOADER = 0x1020_0003, 0x1020_0004
"""Types of objects, as their descriptions give them."""
DEVICE, PATH, DESCRIPTION, INHERITS = 0x1100_0001, 0x1200_0002, 0x1200_0004, 0x1400_0006
RECOVERY_SEQUENCE, RECOVERY_ENABLED = 0x1400_0008, 0x1600_0009
DISPLAY_ORDER, DEFAULT, RESUME = 0x2400_0001, 0x2300_0003, 0x2300_0006
ONCE = 0x2400_0002
"""Entries for the next start only."""
SYSTEM_DEVICE, SYSTEM_ROOT = 0x2100_0001, 0x2200_0002
KERNEL, HARDWARE_LAYER = 0x2200_0011, 0x2200_0012

FORMATS = {1: 3, 2: 1, 3: 1, 4: 7, 5: 3, 6: 3, 7: 3}
"""By the format of an element the type of its value: a device, text, an object, objects, a number,
a switch, numbers.
"""

_HEAD = 32
_BOOT_VOLUME, _PARTITION, _FOUND_BY_FILE = 5, 6, 8
_GPT, _MBR = 0, 1


class StoreDevice(msgspec.Struct, frozen=True):
    """A device that an element names.

    Attributes:
        kind: `boot`: the volume that the manager was loaded from. `partition`. `search`: the volume
            on which a file is found. `other`.
        disk: identifier of the disk: a GUID, or eight hexadecimal digits; empty where none is
            named.
        partition: GUID of the partition; empty on an MBR disk.
        offset: bytes from the start of the disk to the partition, on an MBR disk; else -1.
    """

    kind: str
    disk: str = ""
    partition: str = ""
    offset: int = -1


def device(value: bytes) -> StoreDevice:
    """The device of an element; one of a form that is not known is `other`.

    Layout: 16 bytes GUID of further options; kind, flags, length (16 bytes counted in), 0, each of
    4 bytes; of a partition then its GUID or its offset (16 bytes), 4 bytes, 0 for a GPT and 1 for
    an MBR, GUID or signature of the disk (16 bytes).
    """
    if len(value) < _HEAD:
        return StoreDevice("other")
    (kind,) = struct.unpack_from("<I", value, 16)
    if kind == _BOOT_VOLUME:
        return StoreDevice("boot")
    if kind == _FOUND_BY_FILE:
        return StoreDevice("search")
    if kind != _PARTITION or len(value) < _HEAD + 40:
        return StoreDevice("other")
    style = struct.unpack_from("<I", value, _HEAD + 20)[0]
    partition, disk = value[_HEAD : _HEAD + 16], value[_HEAD + 24 : _HEAD + 40]
    if style == _GPT:
        return StoreDevice("partition", _guid(disk), _guid(partition))
    if style == _MBR:
        offset = int.from_bytes(partition[:8], "little")
        return StoreDevice("partition", f"{int.from_bytes(disk[:4], 'little'):08x}", offset=offset)
    return StoreDevice("other")


def encode_device(device: StoreDevice) -> bytes:
    """The element that names a device on this disk; the other way round."""
    if device.kind == "boot":
        return bytes(16) + struct.pack("<4I", _BOOT_VOLUME, 0, 16, 0)
    if device.offset >= 0:
        partition = device.offset.to_bytes(16, "little")
        disk, style = int(device.disk, 16).to_bytes(16, "little"), _MBR
    else:
        partition, disk = uuid.UUID(device.partition).bytes_le, uuid.UUID(device.disk).bytes_le
        style = _GPT
    body = partition + struct.pack("<II", 0, style) + disk + bytes(16)
    return bytes(16) + struct.pack("<4I", _PARTITION, 0, 16 + len(body), 0) + body


def format_of(element: int) -> int:
    """The digit of an element's number that says how its value is kept."""
    return element >> 24 & 15


def number(value: bytes) -> int:
    """An element that is a number or a switch."""
    return int.from_bytes(value[:8], "little")


def as_text(text: str) -> bytes:
    """An element that is text, or names one object."""
    return f"{text}\0".encode("utf-16-le", "replace")


def as_texts(texts: list[str]) -> bytes:
    """An element that is a list."""
    return "".join(f"{text}\0" for text in [*texts, ""]).encode("utf-16-le", "replace")


def texts(value: bytes) -> tuple[str, ...]:
    """An element that is a list, or names objects."""
    return tuple(part for part in value.decode("utf-16-le", "replace").split("\0") if part)


def options_of(device: bytes) -> str:
    """The object with further options of a device, in braces; empty where it has none."""
    raw = device[:16]
    return f"{{{_guid(raw)}}}" if len(raw) == 16 and any(raw) else ""


def _guid(raw: bytes) -> str:
    return str(uuid.UUID(bytes_le=raw))
