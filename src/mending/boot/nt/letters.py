"""The drive letter of the system's volume: does it still belong to that volume?

The settings keep for each letter which volume it means: by disk signature and offset on an MBR
disk, by the GUID of the partition on a GPT disk. After a copy to another disk the letter of the
system may be bound to the old one; the system then gives its own volume another letter, and the
programs of a sign-in, which are named with the old one, are not found.
"""

import uuid
from collections.abc import Iterator

from mending.boot.nt.start import NtSettings, nt_finding
from mending.disk.hives import Key
from mending.model import Finding, FindingId, Severity, Where

_LETTERS = "MountedDevices"
_NAME = "\\DosDevices\\{}:"
_BY_GUID, _BY_PLACE = b"DMIO:ID:", 12


def letter_fault(settings: NtSettings, current: Key | None) -> Iterator[Finding]:
    """What is wrong with the letter by which the system names its own folder.

    Args:
        current: the key that tells that folder.

    Raises:
        DamagedHiveError
    """
    letter, devices = letter_of(current), settings.hive.root.child(_LETTERS)
    if not letter or devices is None:
        return
    bound = devices.data(_NAME.format(letter))
    ours = list(own_names(settings))
    if bound is None or not ours or bound in ours or not _is_known(bound):
        return
    letters = _bound_to(devices, ours)
    now = f"; its own volume is {letters[0]}: now" if letters else ""
    says = f"The letter {letter}:, by which the system names its folder, belongs to another volume"
    says += f" ({_told(bound)}){now}."
    where = Where(path=settings.start.path("system32/config/system"))
    yield nt_finding(FindingId.DRIVE_LETTER_MOVED, Severity.WARNING, says, where)


def letters_of(settings: NtSettings, current: Key | None) -> frozenset[str]:
    """The letters by which the settings mean the system's volume: those bound to it, and the one
    with which its folder is named; none where that cannot be told.

    Raises:
        DamagedHiveError
    """
    devices = settings.hive.root.child(_LETTERS)
    bound = _bound_to(devices, list(own_names(settings))) if devices is not None else []
    letter = letter_of(current)
    return frozenset([*bound, *([letter] if letter else [])])


def is_elsewhere(letters: frozenset[str], line: str) -> bool:
    """Whether a line of settings names something on another volume than the system's."""
    text = line.strip().lstrip('"').removeprefix("\\??\\")
    return bool(letters) and text[1:2] == ":" and text[0].upper() not in letters


def letter_place(letter: str) -> tuple[str, str]:
    """The key and the value that keep what a letter means."""
    return _LETTERS, _NAME.format(letter)


def letter_of(current: Key | None) -> str:
    """The letter by which the system names its own folder; empty where it names none. Raises
    DamagedHiveError.
    """
    folder = (current.text("SystemRoot") or "") if current is not None else ""
    return folder[0].upper() if folder[1:2] == ":" else ""


def _bound_to(devices: Key, names: list[bytes]) -> list[str]:
    return [
        value.name[-2].upper()
        for value in devices.values()
        if value.name.upper().startswith("\\DOSDEVICES\\") and devices.data(value.name) in names
    ]


def own_names(settings: NtSettings) -> Iterator[bytes]:
    """How the settings may name the system's volume."""
    start = settings.start
    disk = start.environment.disk
    if disk is None:
        return
    volume = start.environment.outside(start.volume)
    if volume.partuuid and disk.gpt is not None:
        yield _BY_GUID + uuid.UUID(volume.partuuid).bytes_le
    elif disk.mbr is not None:
        signature = disk.mbr.record.fields.disk_signature
        yield signature.to_bytes(4, "little") + volume.offset.to_bytes(8, "little")


def _is_known(bound: bytes) -> bool:
    """Whether what is kept names a partition; volumes of several disks have other names."""
    by_guid = bound.startswith(_BY_GUID) and len(bound) == len(_BY_GUID) + 16
    return by_guid or len(bound) == _BY_PLACE


def _told(bound: bytes) -> str:
    if len(bound) != _BY_PLACE:
        return f"partition {uuid.UUID(bytes_le=bound[len(_BY_GUID) :])}"
    signature, at = (int.from_bytes(part, "little") for part in (bound[:4], bound[4:]))
    return f"byte {at} of disk {signature:08x}"
