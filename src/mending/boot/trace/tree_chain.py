"""The chain of a mounted tree: from the boot manager's files on. What lies outside files, the
firmware's part, the MBR and boot sectors, cannot be seen there.
"""

import msgspec

from mending.boot.chain import (
    NOWHERE,
    CheckResult,
    Link,
    TreeEnvironment,
    failed,
    finding,
    not_followed,
    passed,
)
from mending.boot.grub import MODULE_OF, GrubChecks
from mending.boot.linux import RootChecks
from mending.boot.uefi import behind_loader, chained, loaders_on
from mending.disk.volume import Volume
from mending.formats.bootloader.grub_image import GrubImage
from mending.model import FindingId, Phase, PhaseState, Severity, Where

_MENUS = ("boot/grub", "boot/grub2", "grub", "grub2")
_MODULES = frozenset({"normal", *MODULE_OF.values()})
"""GRUB's image lies outside the tree; it is taken to carry what its menu needs."""
_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED


class TreeChain:
    """The checks of one tree. `start` is the first."""

    def __init__(self, environment: TreeEnvironment) -> None:
        self._environment, self._root = environment, environment.volumes[0]

    def start(self) -> CheckResult:
        """What of starting can a tree not show?"""
        says = "Firmware, tables and boot sectors lie outside the files of a mounted tree."
        return CheckResult(
            phase=Phase.FIRMWARE,
            state=PhaseState.NOT_CHECKED,
            says=says,
            then=self.boot_manager,
        )

    @not_followed(_UNREAD, "The boot manager's files", lambda chain: chain.root_alone)
    def boot_manager(self) -> CheckResult:
        """Which boot manager's files are there?"""
        esp = self._environment.esp
        if esp is not None:
            return self._loader(esp)
        for folder in _MENUS:
            if self._environment.find(self._root, f"{folder}/grub.cfg") is not None:
                return self._grub(folder)
        says = "No boot manager's files are in this folder; what it would load is not known."
        return CheckResult(
            phase=Phase.BOOT_MANAGER,
            state=PhaseState.NOT_CHECKED,
            says=says,
            then=self.root_alone,
        )

    def root_alone(self) -> CheckResult:
        """The root without a command line: what is wrong behind it counts all the same."""
        if self._environment.contents(self._root).role != "system":
            says = "No installed system is in this folder."
            return CheckResult(phase=Phase.KERNEL, state=PhaseState.NOT_CHECKED, says=says)
        return RootChecks(self._environment, "", NOWHERE, has_initramfs=True).root()

    def _loader(self, esp: Volume) -> CheckResult:
        loaders = loaders_on(self._environment.files(esp))
        ordered = sorted(loaders, key=lambda loader: (not loader.sound, not loader.fallback))
        bad = [loader for loader in ordered if not loader.sound]
        if not ordered or not ordered[0].sound:
            return self._no_loader(esp, bad[0].problems[0].found if bad else "")
        first = ordered[0]
        notes = tuple(
            finding(
                FindingId.EFI_LOADER_DAMAGED,
                Severity.WARNING,
                f"The loader file {loader.path} is damaged: {loader.problems[0].found}.",
                Where(path=loader.path),
            )
            for loader in bad
        )
        says = f"{first.path} on the system partition in {esp.label} is sound."
        then = self._or_root_alone(behind_loader(self._environment, esp, first.path))
        return passed(Phase.BOOT_RECORD, says, Where(path=first.path), then, notes)

    def _no_loader(self, esp: Volume, damage: str) -> CheckResult:
        what = f"the loader file is damaged: {damage}" if damage else "no loader file"
        says = f"The system partition in {esp.label} holds no sound loader: {what}."
        kind = FindingId.EFI_LOADER_DAMAGED if damage else FindingId.EFI_LOADER_MISSING
        fault = finding(kind, Severity.FATAL, says, Where(path=esp.label))
        return failed(fault, self.root_alone)

    def _grub(self, folder: str) -> CheckResult:
        image = GrubImage(f"(hd0,1)/{folder}", "", _MODULES, b"")
        behind = chained(self._environment)
        checks = GrubChecks(self._environment, image, "i386-pc", None, behind)
        return self._or_root_alone(checks.files)()

    def _or_root_alone(self, link: Link) -> Link:
        """The same links, and the root where they end before they come to it."""

        def following() -> CheckResult:
            result = link()
            if result.phase.rank >= Phase.KERNEL.rank:
                return result
            then = self._or_root_alone(result.then) if result.then else self.root_alone
            return msgspec.structs.replace(result, then=then)

        return following
