"""The sample PCs of the Skerrivane Ferries, and how each is broken."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from importlib.resources import files
from pathlib import Path

from mending.formats import mbr
from mending.model import Lba, SectorCount
from mending.workshop.fat32 import fat32_volume
from mending.workshop.image import SECTOR, ImageDraft

_DISK_SECTORS = 204_800
_DESK = (Lba(2048), SectorCount(81_920))
_STORE = (Lba(83_968), SectorCount(81_920))
_FAT32_LBA = 0x0C
_LOADER = "DESKLOAD.BIN"

Break = Callable[[ImageDraft], None]


@dataclass(frozen=True)
class Sample:
    """One PC with one trouble.

    Attributes:
        says: what the person on the phone says.
        draw: makes the disk; None where nobody has the disk yet.
        facts: what is known when the case is opened, by fact.
        seen: what can be seen at the PC, by sign.
    """

    name: str
    says: str
    draw: Callable[[], ImageDraft] | None
    facts: Mapping[str, str] = field(default_factory=dict)
    seen: Mapping[str, str] = field(default_factory=dict)


def code(name: str) -> bytes:
    """One of the committed binaries beside this module."""
    return (files("mending.workshop") / "code" / f"{name}.bin").read_bytes()


def make_sample(sample: Sample, folder: Path) -> Path | None:
    """Write the sample's image into `folder`; None where it has none. Raises OSError."""
    if sample.draw is None:
        return None
    path = folder / f"{sample.name}.img"
    sample.draw().save(path)
    return path


def bios_disk(boot_code: bytes) -> ImageDraft:
    """A sound BIOS disk of 100 MiB: boot code, an active FAT32 volume with a loader, and a second volume for data."""
    draft = ImageDraft(_DISK_SECTORS * SECTOR)
    table = mbr.encode_entry(mbr.ACTIVE, _FAT32_LBA, *_DESK) + mbr.encode_entry(0, _FAT32_LBA, *_STORE)
    fields = mbr.BootRecordFields(boot_code, 0x5C0FF1CE, 0, table, mbr.SIGNATURE)
    draft.put(0, mbr.BOOT_RECORD.encode(fields))
    notes = {
        "TICKETS/PRICES.TXT": b"Skerrivane to Holm: 12.40\r\n" * 40,
        "TICKETS/TIMES.TXT": b"08:10 11:40 17:25\r\n" * 20,
    }
    for (start, length), label, contents in (
        (_DESK, "TICKETDESK", {_LOADER: code("desk-loader")}),
        (_STORE, "TICKETS", notes),
    ):
        for offset, data in fat32_volume(length, start, label, contents, code("fat32-start"), 0x5EA_0000 + start):
            draft.put(start * SECTOR + offset, data)
    return draft


def _blank_boot_code(draft: ImageDraft) -> None:
    draft.put(0, bytes(mbr.CODE_SIZE))


def _second_active(draft: ImageDraft) -> None:
    draft.put(mbr.TABLE_OFFSET + 16, bytes([mbr.ACTIVE]))


def _blank_boot_sector(draft: ImageDraft) -> None:
    draft.put(_DESK[0] * SECTOR, bytes(SECTOR))


def samples(boot_code: bytes) -> tuple[Sample, ...]:
    """All sample PCs.

    Args:
        boot_code: 440 bytes for the boot record of sound disks.
    """

    def disk(broken: Break | None = None) -> Callable[[], ImageDraft]:
        def draw() -> ImageDraft:
            draft = bios_disk(boot_code)
            if broken is not None:
                broken(draft)
            return draft

        return draw

    desk = {"form": "desktop", "family": "nt", "firmware": "bios", "bench": "yes"}
    black = {"logo": "shown", "after-logo": "message", "lock-key": "toggles", "fans-lights": "normal"}
    return (
        Sample("quay-desk-1", "Runs; brought in to be compared with.", disk(), desk, {"after-logo": "desktop"}),
        Sample(
            "quay-desk-2",
            "After the logo only a blinking line.",
            disk(_blank_boot_code),
            desk,
            black | {"after-logo": "cursor"},
        ),
        Sample("gate-2", "Says that two entries are active.", disk(_second_active), desk, black),
        Sample(
            "office-1",
            "Says that the volume has no boot sector.",
            disk(_blank_boot_sector),
            desk | {"backup": "no"},
            black,
        ),
        Sample(
            "pier-kiosk",
            "Beeps and stays black; it fell off its shelf in the storm.",
            None,
            {"form": "desktop", "family": "nt", "firmware": "unknown", "bench": "yes"},
            {
                "fans-lights": "normal",
                "beeps": "pattern",
                "logo": "never",
                "lock-key": "dead",
                "recent-change": "knock",
            },
        ),
    )
