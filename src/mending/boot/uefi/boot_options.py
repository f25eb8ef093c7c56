"""The boot entries that UEFI firmware remembers, from a dump of its variables, set against a disk.

Source: UEFI Specification 2.10, section 3.1.1 "Boot Manager Programming": `BootNext` once, then
`BootOrder`; entries that cannot be loaded are passed over.
"""

from pathlib import Path

import msgspec

from mending.boot.chain import finding
from mending.boot.uefi.loader_files import EfiVolume, Loader
from mending.disk.volume import Volume
from mending.formats.firmware import efi_variables, load_option
from mending.formats.firmware.load_option import LoadOption
from mending.model import Finding, FindingId, InputError, Phase, Severity, Where, Window
from mending.model.limits import FOLDER_ROWS, WINDOW_BYTES
from mending.source import read_file, read_folder

_PHASE = Phase.FIRMWARE
_NUMBER = 8
"""Letters in the name of a boot entry, `Boot0001`."""


class BootOptions(msgspec.Struct, frozen=True):
    """What firmware would try, first to last.

    Attributes:
        path: of the dump, for sentences.
        order: names of entries; those that are asked for but not there have no row in `entries`.
    """

    path: str
    order: tuple[str, ...]
    entries: dict[str, LoadOption]


class ChosenLoader(msgspec.Struct, frozen=True):
    """The loader that firmware would start from a disk, and what it passed over before."""

    volume: Volume | None
    loader: Loader | None
    command_line: str
    says: str
    passed_over: tuple[Finding, ...]


def read_boot_options(path: Path) -> BootOptions:
    """The boot entries in a dump: a file, or a folder with a file for each variable.

    Raises:
        InputError: it cannot be read, or is no such dump.
    """
    if path.is_dir():
        files = read_folder(path)[:FOLDER_ROWS]
        rows = (
            efi_variables.read_file(file.name, read_file(file, WINDOW_BYTES))
            for file in files
            if file.is_file()
        )
        found = [variable for variable in rows if variable is not None]
        if not found:
            raise InputError(
                f"{path} holds no firmware variables.",
                "Copy the variables, a file each, with their names.",
            )
    else:
        reading = efi_variables.read_store(Window(read_file(path, WINDOW_BYTES)))
        if reading.has("no-store"):
            raise InputError(
                f"{path} is no dump of firmware variables.",
                "Give a dump of the store, or a folder.",
            )
        found = list(reading.record)
    values = {
        variable.name: variable.data for variable in found if variable.owner == efi_variables.GLOBAL
    }
    order = (
        *load_option.order(values.get("BootNext", b"")),
        *load_option.order(values.get("BootOrder", b"")),
    )
    names = (
        name
        for name in values
        if len(name) == _NUMBER and name.startswith("Boot") and name not in {"BootNext"}
    )
    entries = {
        name: load_option.read(values[name]).record for name in names if _is_number(name[4:])
    }
    return BootOptions(str(path), tuple(dict.fromkeys(order)), entries)


def choose_loader(
    options: BootOptions, volumes: tuple[Volume, ...], found: list[EfiVolume]
) -> ChosenLoader:
    """Walk through the order as firmware does, for the entries that lead to this disk."""
    passed: list[Finding] = []
    for name in options.order:
        entry = options.entries.get(name)
        where = Where(path=name)
        if entry is None:
            passed.append(
                _note(f"The order names {name}, and there is no such entry.", where, Severity.NOTE)
            )
            continue
        title = f"{name} ({entry.title})"
        if not entry.active:
            passed.append(_note(f"{title} is switched off.", where, Severity.NOTE))
        elif entry.kind == "partition":
            volume, loader, fault = _target(entry, volumes, found)
            if loader is not None:
                says = (
                    f"The firmware's entry {title} starts {loader.path} on volume"
                    f" {volume.number if volume else 0}."
                )
                return ChosenLoader(volume, loader, entry.command_line, says, tuple(passed))
            severity = Severity.WARNING if volume is not None else Severity.NOTE
            passed.append(_note(f"{title} {fault}; firmware passes over it.", where, severity))
        elif entry.kind == "device":
            for esp in found:
                loader = next((file for file in esp.fallbacks if file.sound), None)
                if loader is not None:
                    says = (
                        f"The firmware's entry {title} starts a whole device; on this disk"
                        f" {loader.path}."
                    )
                    return ChosenLoader(esp.volume, loader, entry.command_line, says, tuple(passed))
    says = (
        "No entry that firmware remembers leads to a loader on this disk."
        if options.order
        else _NO_ORDER
    )
    return ChosenLoader(None, None, "", says, tuple(passed))


_NO_ORDER = "Firmware remembers no order of boot entries."


def _target(
    entry: LoadOption, volumes: tuple[Volume, ...], found: list[EfiVolume]
) -> tuple[Volume | None, Loader | None, str]:
    """The volume that an entry names, the sound loader on it, and why there is none."""
    drive = entry.drive
    wanted = drive.partition.lower() if drive is not None else ""
    volume = next(
        (volume for volume in volumes if wanted and volume.partuuid.lower() == wanted), None
    )
    if volume is None:
        other = next(
            (volume for volume in volumes if drive is not None and volume.start == drive.start),
            None,
        )
        beside = (
            f"; volume {other.number} lies in its place under another identifier"
            if other is not None
            else ""
        )
        return (
            other,
            None,
            f"names partition {wanted or 'nothing'}, which is not on this disk{beside}",
        )
    readable = next((esp for esp in found if esp.volume == volume and not esp.unreadable), None)
    if readable is None:
        return volume, None, f"names volume {volume.number}, which firmware cannot read"
    paths = (
        [entry.file.lower()]
        if entry.file
        else [fallback.path.lower() for fallback in readable.fallbacks]
    )
    loader = next((loader for loader in readable.loaders if loader.path.lower() in paths), None)
    if loader is None:
        return (
            volume,
            None,
            f"names {entry.file or 'the fallback loader'}, which is not on volume {volume.number}",
        )
    if not loader.sound:
        return volume, None, f"names {loader.path}, which is damaged"
    return volume, loader, ""


def _note(says: str, where: Where, severity: Severity) -> Finding:
    return finding(FindingId.BOOT_OPTION_PASSED_OVER, severity, says, where)


def _is_number(text: str) -> bool:
    return all(name in "0123456789ABCDEFabcdef" for name in text)
