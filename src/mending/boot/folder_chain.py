"""The chain of a mounted tree: from the boot manager's files on. What lies outside files cannot be seen there."""

from mending.boot.efi_files import loaders_on
from mending.boot.folder_grounds import FolderGrounds
from mending.boot.grounds import ElsewhereError
from mending.boot.grub.menu import GrubLinks
from mending.boot.linux.root import RootLinks
from mending.boot.loader_kinds import behind_loader, chained
from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import FilesUnavailableError, Volume
from mending.formats.grub_image import GrubImage
from mending.model import Phase, PhaseState, Severity, Where

_MENUS = ("boot/grub", "boot/grub2", "grub", "grub2")
_NORMAL = frozenset({"normal"})


class FolderChain:
    """The links of one tree. `start` is the first."""

    def __init__(self, grounds: FolderGrounds) -> None:
        self._grounds, self._root = grounds, grounds.volumes[0]

    def start(self) -> Rung:
        """Which boot manager's files are there?"""
        efi = self._grounds.efi
        if efi is not None:
            return self._loader(efi)
        try:
            home = next((one for one in _MENUS if self._grounds.find(self._root, f"{one}/grub.cfg") is not None), None)
        except ElsewhereError as error:
            one = finding("boot-manager-not-checked", Phase.BOOT_MANAGER, Severity.NOTE, f"Not checked: {error}")
            return Rung(phase=one.phase, state=PhaseState.NOT_CHECKED, says=one.says, findings=(one,),
                        then=self._root_alone)  # fmt: skip
        if home is not None:
            return self._grub(home)
        says = "No boot manager's files are in this folder; what it would load is not known."
        return Rung(phase=Phase.BOOT_MANAGER, state=PhaseState.NOT_CHECKED, says=says, then=self._root_alone)

    def _loader(self, efi: Volume) -> Rung:
        try:
            found = loaders_on(self._grounds.files(efi))
        except FilesUnavailableError as error:
            one = finding("boot-manager-not-checked", Phase.BOOT_RECORD, Severity.NOTE, error.says)
            return Rung(phase=one.phase, state=PhaseState.NOT_CHECKED, says=one.says, findings=(one,),
                        then=self._root_alone)  # fmt: skip
        ordered = sorted(found, key=lambda one: (not one.sound, not one.fallback))
        bad = [one for one in ordered if not one.sound]
        if not ordered or not ordered[0].sound:
            what = f"the loader file {bad[0].path} is damaged: {bad[0].problems[0].found}" if bad else "no loader file"
            says = f"The system partition in {efi.label} holds no sound loader: {what}."
            code, where = "efi-loader-damaged" if bad else "efi-loader-missing", Where(path=efi.label)
            return failed(finding(code, Phase.BOOT_RECORD, Severity.FATAL, says, where), self._root_alone)
        first = ordered[0]
        says = f"{first.path} on the system partition in {efi.label} is sound."
        notes = tuple(
            finding(
                "efi-loader-damaged", Phase.BOOT_RECORD, Severity.WARNING,
                f"The loader file {one.path} is damaged: {one.problems[0].found}.", Where(path=one.path),
            )
            for one in bad
        )  # fmt: skip
        return Rung(
            phase=Phase.BOOT_RECORD, state=PhaseState.PASSED, says=says, where=Where(path=first.path), findings=notes,
            then=self._or_root_alone(behind_loader(self._grounds, efi, first.path)),
        )  # fmt: skip

    def _grub(self, home: str) -> Rung:
        image = GrubImage(f"(hd0,1)/{home}", "", _NORMAL, False)
        link = GrubLinks(self._grounds, image, "i386-pc", None, chained(self._grounds)).files
        return self._or_root_alone(link)()

    def _or_root_alone(self, link: Link) -> Link:
        """The same links, and the root where they end before they come to it."""

        def next_one() -> Rung:
            rung = link()
            if rung.phase.rank >= Phase.KERNEL.rank:
                return rung
            then = self._or_root_alone(rung.then) if rung.then is not None else self._root_alone
            return Rung(
                phase=rung.phase, state=rung.state, says=rung.says, where=rung.where, findings=rung.findings, then=then
            )

        return next_one

    def _root_alone(self) -> Rung:
        """The root without a command line: what is wrong behind it counts all the same."""
        if self._grounds.contents(self._root).role != "system":
            says = "No installed system is in this folder."
            return Rung(phase=Phase.KERNEL, state=PhaseState.NOT_CHECKED, says=says)
        return RootLinks(self._grounds, "", Where(), initramfs=True).root()
