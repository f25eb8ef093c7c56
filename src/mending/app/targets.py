"""From what a person names to what is worked on: a case, its disk or tree, its undo points."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from mending.app.host import Host
from mending.disk.layout import disk_at_moment, settle_sector_size
from mending.model import InputError, RefusedError
from mending.source import FileSource, FolderSource, Target, open_folder_source, open_source

if TYPE_CHECKING:
    from mending.boot.uefi import BootOptions
    from mending.case import Case
    from mending.repair.base import MendSettings
    from mending.repair.journal import Journal


_MOMENT = re.compile(r"(.+)@([0-9]{1,18})", re.DOTALL)


class NamedTarget:
    """A disk or tree to work on, and the case it belongs to, if any.

    Attributes:
        name: as the person typed it.
        path: of the image, device or folder.
        firmware: `bios` or `uefi` where the case knows it.
        boot_options: what UEFI firmware remembers, where a dump of it was given or is in the case.
        undo_folder: where undo points of this target live.
    """

    def __init__(self, name: str, host: Host, variables: str | None = None) -> None:
        self.name = name
        self.case = _case_of(Path(name))
        self.path = _disk_of(self.case) if self.case else name
        self.firmware = self.case.state.facts.get("firmware") if self.case else None
        dump = self.case.firmware_dump if self.case else None
        if variables:
            dump = Path(variables)
        self.boot_options = _read_options(dump) if dump is not None else None
        self.undo_folder = self.case.undo_folder if self.case else host.undo_folder

    def refuse_closed(self) -> None:
        """Raise RefusedError where the case is closed: nothing is written to its disk then."""
        if self.case is not None:
            self.case.refuse_closed()

    def journal(self, host: Host) -> "Journal":
        """The undo points of this target."""
        from mending.repair.journal import Journal  # noqa: PLC0415 - lazy: a trace needs none

        return Journal(self.undo_folder, host.key)

    def settings(self) -> "MendSettings":
        """What is known of it that a repair has to know, and nothing allowed beyond the usual."""
        from mending.repair.base import MendSettings  # noqa: PLC0415 - lazy: a trace needs none

        return MendSettings(firmware=self.firmware, boot_options=self.boot_options)


def _read_options(dump: Path) -> "BootOptions":
    from mending.boot.uefi import read_boot_options  # noqa: PLC0415 - lazy: seldom given

    return read_boot_options(dump)


def _case_of(folder: Path) -> "Case | None":
    if not folder.is_dir():
        return None
    from mending.case import is_case, load_case  # noqa: PLC0415 - lazy: a bare disk has no case

    return load_case(folder) if is_case(folder) else None


def _disk_of(case: "Case") -> str:
    if case.state.disk is None:
        raise InputError(
            f"The case {case.folder} has no disk yet.",
            f"Attach one: mending add {case.folder} IMAGE",
        )
    return case.state.disk


@contextmanager
def opened_target(
    path: str, sector: int | None = None, for_writing: bool = False
) -> Iterator[FileSource | FolderSource]:
    """A disk as `opened_disk` gives it, or a mounted tree where the path is a folder."""
    if Path(path).is_dir():
        tree = open_folder_source(path, for_writing=for_writing)
        try:
            yield tree
        finally:
            tree.close()
        return
    if moment_of(path)[1] is not None:
        raise RefusedError(f"{path} is a moment of the past, which is only read.")
    with opened_disk(path, sector, for_writing) as source:
        yield source


@contextmanager
def opened_to_read(path: str, sector: int | None = None) -> Iterator[Target]:
    """A target as `opened_target` gives it; `DISK@N` is the disk as it was at the moment N that it
    keeps itself.

    Raises:
        InputError
    """
    disk, number = moment_of(path)
    if number is None:
        with opened_target(path, sector) as target:
            yield target
        return
    with opened_disk(disk, sector) as source:
        yield disk_at_moment(source, number)


def moment_of(path: str) -> tuple[str, int | None]:
    """The disk and the number of a moment in `DISK@N`; no number for other names."""
    match = _MOMENT.fullmatch(path) if not Path(path).exists() else None
    return (match.group(1), int(match.group(2))) if match else (path, None)


@contextmanager
def opened_disk(
    path: str, sector: int | None = None, for_writing: bool = False
) -> Iterator[FileSource]:
    """A disk whose sector size is settled; closed at the end."""
    with open_source(path, bytes_per_sector=sector, for_writing=for_writing) as source:
        source.bytes_per_sector = settle_sector_size(source, sector)
        yield source
