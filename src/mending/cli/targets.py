"""From what the person typed to a case, a source, and where undo points go."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mending.boot import read_boot_options
from mending.case import Case, is_case, load_case
from mending.cli import world
from mending.disk import settle_sector_size
from mending.model import InputError
from mending.source import FileSource, FolderSource, open_folder_source, open_source


class Target:
    """A disk to look at, and the case it belongs to, if any.

    Attributes:
        disk: path of the image or device.
        firmware: `bios` or `uefi` where the case knows it.
        options: what UEFI firmware remembers, where a dump of it was given or is in the case.
        undo_folder: where undo points of this target live.
    """

    def __init__(self, path: str, variables: str | None = None) -> None:
        self.case: Case | None = load_case(Path(path)) if is_case(Path(path)) else None
        self.disk = _disk_of(self.case) if self.case else path
        self.firmware = self.case.state.facts.get("firmware") if self.case else None
        dump = Path(variables) if variables else self.case.firmware_dump if self.case else None
        self.options = read_boot_options(dump) if dump is not None else None
        self.undo_folder = self.case.undo_folder if self.case else world.bare_undo_folder()


def _disk_of(case: Case) -> str:
    if case.state.disk is None:
        raise InputError(f"The case {case.folder} has no disk yet.", f"Attach one: mending add {case.folder} IMAGE")
    return case.state.disk


@contextmanager
def opened_any(path: str, sector: int | None = None, for_writing: bool = False) -> Iterator[FileSource | FolderSource]:
    """A disk as `opened` gives it, or a mounted tree where the path is a folder."""
    if Path(path).is_dir():
        yield open_folder_source(path, for_writing=for_writing)
        return
    with opened(path, sector, for_writing) as source:
        yield source


@contextmanager
def opened(path: str, sector: int | None = None, for_writing: bool = False) -> Iterator[FileSource]:
    """A source whose sector size is settled; closed at the end."""
    with open_source(path, bytes_per_sector=sector, for_writing=for_writing) as source:
        source.bytes_per_sector = settle_sector_size(source, sector)
        yield source
