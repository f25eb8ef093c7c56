"""What a repair is given, and what it hands over: the changes, and what they answer."""

from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from mending.boot.chain import BootEnvironment, Trace
from mending.boot.uefi import BootOptions
from mending.disk.healthy import HealthyCopy
from mending.disk.layout import Disk
from mending.disk.locked import KeyRing
from mending.disk.system import Contents
from mending.model import (
    Change,
    Finding,
    FindingId,
    Patch,
    Progress,
    RefusedError,
    RepairId,
    VolumeState,
)


class MendSettings(msgspec.Struct, frozen=True):
    """What the person has allowed beyond the usual, or told about the PC.

    Attributes:
        anyway: write although the present state would do.
        key_at_hand: the recovery key of an encrypted volume can be typed in if it is asked for.
        firmware: `bios` or `uefi` where it is known.
        boot_options: what UEFI firmware remembers, where that is known.
        restore_from: a folder with sound copies of files: a mounted tree, or packages.
        mount: a volume may be handed to the driver of the operating system where a change does not
            fit into the blocks that its files have.
        replay: that driver may replay a journal first.
        unit: what is to be turned off.
        healthy: a healthy copy to take parts from.
        other_pc: it may be of another PC.
        whole_way: not only the parts of the phase that fails, but all up to it.
        driver: the driver, service or filter that is meant.
        hives: where the set of hives is that is put back: a folder of the system's volume, or the
            number of a moment that the volume keeps.
        system: number of the volume whose system is meant.
        want: what the next start is to do.
        keys: what opens locked volumes.
        yes: nobody will be asked: what has one sure answer is taken.
        searching: the whole disk may be read to find out what there is to propose.
        asking: nothing will be written: it is enough to know whether something could be.
        failing_since: tells when failing began, RFC 3339, empty where no record says so; asked only
            where that decides something, for reading the records takes its time.
    """

    anyway: bool = False
    key_at_hand: bool = False
    firmware: str | None = None
    boot_options: BootOptions | None = None
    restore_from: Path | None = None
    mount: bool = False
    replay: bool = False
    unit: str = ""
    healthy: HealthyCopy | None = None
    other_pc: bool = False
    whole_way: bool = False
    driver: str = ""
    hives: str = ""
    system: int | None = None
    want: str = ""
    keys: KeyRing | None = None
    yes: bool = False
    searching: bool = True
    asking: bool = False
    failing_since: Callable[[], str] = str


class Request(msgspec.Struct, frozen=True, kw_only=True):
    """What a repair is given.

    Attributes:
        environment: the volumes and their files, of a disk or of a mounted tree.
        trace: what the trace says of the target.
        settings: what is allowed.
        progress: whom to tell how far it is.
    """

    environment: BootEnvironment
    trace: Trace
    settings: MendSettings
    progress: Progress

    @property
    def disk(self) -> Disk:
        """The disk.

        Raises:
            RefusedError: a mounted tree.
        """
        if self.environment.disk is None:
            raise RefusedError(
                "This repair needs the disk itself and not a mounted tree.",
                "Name the image or the device.",
            )
        return self.environment.disk

    def found(self, *kinds: FindingId) -> tuple[Finding, ...]:
        """The findings of these kinds, in the order of the trace."""
        return tuple(finding for finding in self.trace.findings if finding.id in kinds)

    def calling_for(self, repair: RepairId) -> tuple[Finding, ...]:
        """The findings that a repair was offered for."""
        return tuple(finding for finding in self.trace.findings if repair in finding.repairs)


class WholeDiskError(RefusedError):
    """Whether a repair can be done shows only a search of the whole disk, which may not be made."""

    def __init__(self) -> None:
        super().__init__("What there is to write shows only a search of the whole disk.")


class Proposal(msgspec.Struct, frozen=True, kw_only=True):
    """Everything a repair would change, before anything is written.

    Attributes:
        says: one sentence: what is written and why this kind.
        changes: do not overlap; in the order in which they are to be written.
        answers: the findings that must be gone afterwards.
        fault_after: looks at the trace of the mended target where no finding tells that the repair
            worked; says what is wrong, or nothing.
    """

    repair: RepairId
    says: str
    changes: tuple[Change, ...]
    answers: tuple[Finding, ...]
    fault_after: Callable[[Trace], str] | None = None


# Guards that every repair shares.


def check_common(disk: Disk, settings: MendSettings) -> None:
    """Raise RefusedError where the boot chain of an encrypted system would change and no key is at
    hand.
    """
    encrypted = [volume.number for volume in disk.volumes if volume.encrypted]
    if encrypted and not settings.key_at_hand:
        raise RefusedError(
            f"Volume {encrypted[0]} is encrypted, and a changed boot chain makes it ask for its"
            " recovery key.",
            "Have the key at hand, then add --key-at-hand.",
            "--key-at-hand",
        )


def check_mirrors(disk: Disk, changes: Iterable[Change]) -> None:
    """Raise RefusedError where one member of a mirror would change and the others not."""
    for change in changes:
        if not isinstance(change, Patch):
            continue
        for volume in disk.volumes:
            before = change.offset + change.length <= volume.offset
            behind = change.offset >= volume.offset + volume.bytes
            if volume.array and not (before or behind):
                raise RefusedError(
                    f"Volume {volume.number} is one copy of a mirror; written alone, it would"
                    " differ from the other without anything noticing.",
                    "Start the array on a sound PC, and mend the array itself.",
                )


def check_awake(inside: Contents) -> None:
    """Raise RefusedError where a sleeping system owns the volume.

    A volume that cannot be read is let pass: nothing can be told about it, and it is mended so that
    it can be.
    """
    if inside.info.state is VolumeState.HIBERNATED:
        raise RefusedError(
            f"Volume {inside.volume.number} holds a hibernated system, or one shut down in hybrid"
            " mode.",
            "Start it once and shut it down fully, or give up what it had open.",
        )
