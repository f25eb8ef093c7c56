"""The sample PCs: who calls, what is seen, which disk."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mending.workshop.disks import (
    BIOS_FAULTS,
    LINUX_FAULTS,
    UEFI_FAULTS,
    Fault,
    ImageDraft,
    bios_disk,
    linux_disk,
    uefi_disk,
)
from mending.workshop.histories import slip_desk_records
from mending.workshop.nt import NT_FAULTS, nt_bios_disk, nt_uefi_disk

_BIOS = {"form": "desktop", "family": "nt", "firmware": "bios", "bench": "yes"}
_UEFI = {"form": "laptop", "family": "nt", "firmware": "uefi", "bench": "yes"}
_LINUX = {"form": "desktop", "family": "linux", "firmware": "uefi", "bench": "yes"}
_CRASHES = {"form": "desktop", "family": "nt", "firmware": "uefi"}
_STOPS = {
    "fans-lights": "normal",
    "logo": "shown",
    "lock-key": "toggles",
    "after-logo": "stop-screen",
}
_MESSAGE = {
    "fans-lights": "normal",
    "logo": "shown",
    "lock-key": "toggles",
    "after-logo": "message",
}
_STATUS = _MESSAGE | {"after-logo": "status-screen"}
_CURSOR = _MESSAGE | {"after-logo": "cursor"}
_DROPPED = {
    "fans-lights": "normal",
    "beeps": "pattern",
    "logo": "never",
    "lock-key": "dead",
    "recent-change": "knock",
}


_RUNS = {"after-logo": "desktop"}
_AFTER_CUT = _MESSAGE | {"recent-change": "power-cut"}


@dataclass(frozen=True)
class Sample:
    """One PC with one trouble.

    Attributes:
        says: what the person on the phone says.
        draw: makes the disk; None where nobody has the disk yet.
        leave: makes the crash records that were brought along, by file name.
        facts: what is known when the case is opened, by fact.
        seen: what can be seen at the PC, by sign.
    """

    name: str
    says: str
    draw: Callable[[], ImageDraft] | None
    facts: Mapping[str, str] = field(default_factory=dict)
    seen: Mapping[str, str] = field(default_factory=dict)
    leave: Callable[[], Mapping[str, bytes]] | None = None


def make_sample(sample: Sample, folder: Path) -> Path | None:
    """Write the sample's image into `folder`; None where it has none.

    Raises:
        OSError
    """
    if sample.draw is None:
        return None
    path = folder / f"{sample.name}.img"
    sample.draw().save(path)
    return path


def leave_records(sample: Sample, folder: Path) -> list[Path]:
    """Write the sample's crash records into a folder of their own; none where it has none. Raises
    OSError.
    """
    if sample.leave is None:
        return []
    home = folder / sample.name
    home.mkdir(parents=True, exist_ok=True)
    written = []
    for name, data in sample.leave().items():
        (home / name).write_bytes(data)
        written.append(home / name)
    return written


def samples(boot_code: bytes) -> tuple[Sample, ...]:
    """All sample PCs.

    Args:
        boot_code: 440 bytes for the MBR of sound BIOS disks.
    """
    return (
        *_bios_samples(boot_code),
        *_uefi_samples(),
        *_linux_samples(),
        *_nt_samples(boot_code),
        *_without_disk(),
    )


def _bios_samples(boot_code: bytes) -> tuple[Sample, ...]:
    def bios(*faults: str) -> Callable[[], ImageDraft]:
        return lambda: _broken(bios_disk(boot_code), [BIOS_FAULTS[name] for name in faults])

    return (
        Sample("quay-desk-1", "Runs; brought in to be compared with.", bios(), _BIOS, _RUNS),
        Sample(
            "quay-desk-2",
            "After the logo only a blinking line.",
            bios("blank-boot-code"),
            _BIOS,
            _CURSOR,
        ),
        Sample(
            "gate-2",
            "Says that two entries are active.",
            bios("two-active-entries"),
            _BIOS,
            _MESSAGE,
        ),
        Sample(
            "office-1",
            "Says that the volume has no boot sector.",
            bios("blank-boot-sector"),
            _BIOS,
            _MESSAGE,
        ),
        Sample(
            "ticket-hall",
            "No system, since somebody made room for a second one.",
            bios("no-table"),
            _BIOS,
            _MESSAGE,
        ),
    )


def _uefi_samples() -> tuple[Sample, ...]:
    def uefi(*faults: str) -> Callable[[], ImageDraft]:
        return lambda: _broken(uefi_disk(), [UEFI_FAULTS[name] for name in faults])

    return (
        Sample("purser-1", "Runs; the newer kind.", uefi(), _UEFI, _RUNS),
        Sample(
            "purser-2",
            "Runs, but a check of its disk complained.",
            uefi("blank-primary-header"),
            _UEFI,
            _RUNS,
        ),
        Sample(
            "mess-room",
            "No boot device, since the power cut.",
            uefi("blank-efi-boot-sector"),
            _UEFI,
            _AFTER_CUT,
        ),
        Sample(
            "stores-1",
            "No boot device, since the lights went.",
            uefi("first-fat-breaks-loader"),
            _UEFI,
            _AFTER_CUT,
        ),
        Sample(
            "chart-room",
            "No boot device, since an update.",
            uefi("truncated-loader"),
            _UEFI,
            _MESSAGE,
        ),
    )


def _linux_samples() -> tuple[Sample, ...]:
    def linux(*faults: str) -> Callable[[], ImageDraft]:
        return lambda: _broken(linux_disk(), [LINUX_FAULTS[name] for name in faults])

    return (
        Sample("gangway-1", "Runs; the one at the gangway, with Linux.", linux(), _LINUX, _RUNS),
        Sample(
            "gangway-2",
            "A panic, since the power cut.",
            linux("blank-root-superblock"),
            _LINUX,
            _AFTER_CUT,
        ),
        Sample(
            "bridge-log",
            "Starts, but nobody can sign in.",
            linux("blank-accounts"),
            _LINUX,
            _MESSAGE,
        ),
    )


def _nt_samples(boot_code: bytes) -> tuple[Sample, ...]:
    def bios(*faults: str) -> Callable[[], ImageDraft]:
        return lambda: nt_bios_disk(boot_code, *(NT_FAULTS[name] for name in faults))

    def uefi(*faults: str) -> Callable[[], ImageDraft]:
        return lambda: nt_uefi_disk(*(NT_FAULTS[name] for name in faults))

    return (
        Sample("harbour-1", "Runs; the whole system is on its disk.", uefi(), _UEFI, _RUNS),
        Sample(
            "harbour-2",
            "A blue page with a number, since its disk was copied to a new one.",
            bios("other-disk"),
            _BIOS,
            _STATUS | {"recent-change": "partitions"},
        ),
        Sample(
            "fog-station",
            "Stops with a code, since the empty battery on its board was changed.",
            bios(),
            _BIOS,
            _STOPS | {"recent-change": "setup", "code-about": "boot-volume"},
        ),
        Sample(
            "pilot-house",
            "Stops with a code, since the backup program was taken off.",
            bios("filter-left-behind"),
            _BIOS,
            _STOPS | {"recent-change": "program", "code-about": "boot-volume"},
        ),
        Sample(
            "tide-table",
            "A blue page that names a driver, since yesterday.",
            uefi("damaged-driver"),
            _UEFI,
            _STATUS,
        ),
        Sample(
            "lamp-room",
            "A blue page about its settings, since the lights went.",
            uefi("half-written-hive"),
            _UEFI,
            _STATUS | {"recent-change": "power-cut"},
        ),
        Sample(
            "crew-desk",
            "Takes the password, says goodbye, and asks for it again.",
            uefi("other-program-at-sign-in"),
            _UEFI,
            _MESSAGE | {"after-logo": "sign-in", "sign-in": "back-again"},
        ),
    )


def _without_disk() -> tuple[Sample, ...]:
    return (
        Sample(
            "pier-kiosk",
            "Beeps and stays black; the storm threw it off its shelf.",
            None,
            _BIOS,
            _DROPPED,
        ),
        Sample(
            "slip-desk",
            "Stops with a code, several times a week.",
            None,
            _CRASHES,
            _STOPS,
            slip_desk_records,
        ),
    )


def _broken(draft: ImageDraft, faults: list[Fault]) -> ImageDraft:
    for fault in faults:
        fault(draft)
    return draft
