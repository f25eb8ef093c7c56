"""From what a person names to what is worked on: a case, its disk or tree, its undo points."""

from pathlib import Path
from typing import TYPE_CHECKING

from mending.app.host import Host

if TYPE_CHECKING:
    from mending.boot.uefi import BootOptions
    from mending.case import Case
    from mending.repair.base import MendSettings
    from mending.repair.journal import Journal


class NamedTarget:
    """A disk or tree to work on, and the case it belongs to, if any.

    Attributes:
        name: as the person typed it.
        path: of the image, device or folder; of a case, where its disk is now.
        firmware: `bios` or `uefi` where the case knows it.
        boot_options: what UEFI firmware remembers, where a dump of it was given or is in the case.
        undo_folder: where undo points of this target live.
    """

    def __init__(self, name: str, host: Host, variables: str | None = None) -> None:
        """Raises as `case_disk.settle_disk` does."""
        self.name = name
        self.case = _case_of(Path(name))
        self.path = name
        if self.case is not None:
            from mending.app.case_disk import settle_disk  # noqa: PLC0415 - lazy: cases only

            self.case, self.path = settle_disk(self.case, host)
        self.firmware = self.case.state.facts.get("firmware") if self.case else None
        dump = self.case.firmware_dump(host.key) if self.case else None
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
