"""Volumes of the NT family with the real boot record of their family, taken from a sample volume;
a stub stands in for the manager, which no package may ship. SeaBIOS has the last word.
"""

import functools
import struct
import unittest
from pathlib import Path

from mending.formats.boot_store import StoreDevice
from mending.workshop.nt import store_bytes, template
from tests.machine import QEMU, screen_of
from tests.samples import needs_samples, read_samples
from tests.support import SECTOR, InFolder, ids, needs, tool, trace_file

MBR_CODE = Path("/usr/lib/syslinux/mbr/mbr.bin")
MAKERS = ("sfdisk", "mkfs.ntfs", "ntfscp", "nasm", MBR_CODE)
START, MIB = 2048, 16
CODE_BYTES, CODE_AT = 16 * SECTOR, 0x54
SAYS = "FERRY-MANAGER"
STUB = f"""
bits 16
    push cs
    pop ds
    call here
here:
    pop si
    add si, text - here
next:
    lodsb
    or al, al
    jz done
    mov ah, 0x0e
    mov bx, 7
    int 0x10
    jmp next
done:
    hlt
    jmp done
text: db "{SAYS}", 0
times 4096-($-$$) db 0x90
"""


@functools.cache
def real_boot_record():
    """The first 16 sectors of a real volume of the family."""
    _, data = next(read_samples("dissect.ntfs", "_data/ntfs.bin.gz"))
    return data[:CODE_BYTES]


class NtDisks(InFolder):
    """Makes disks of the family."""

    def manager(self):
        source, made = self.folder / "stub.asm", self.folder / "stub"
        source.write_text(STUB)
        tool("nasm", "-f", "bin", "-o", made, source)
        return made.read_bytes()

    def disk(self, files, *options, volume=None):
        """A disk whose MBR code is open and whose boot record is real. Args: volume: bytes of a
        ready one, else it is made.
        """
        made, volume, image = volume, self.folder / "volume", self.folder / "nt.img"
        volume.write_bytes(made or bytes(MIB << 20))
        if made is None:
            tool("mkfs.ntfs", "-q", "-F", "-p", START, "-H", 255, "-S", 63, *options, volume)
        for name, data in files.items():
            held = self.folder / "held"
            held.write_bytes(data)
            tool("ntfscp", volume, held, name)
        record, data = real_boot_record(), bytearray(volume.read_bytes())
        data[:3], data[CODE_AT:CODE_BYTES] = record[:3], record[CODE_AT:]
        if made is not None:
            data[-SECTOR:] = data[:SECTOR]  # the copy that the volume keeps
        table = f"label: dos\nstart={START},size={len(data) // SECTOR},type=7,bootable\n"
        image.write_bytes(bytes(len(data) + (4 << 20)))
        tool("sfdisk", "-q", image, stdin=table)
        with image.open("r+b") as file:
            file.write(MBR_CODE.read_bytes()[:440])
            file.seek(START * SECTOR)
            file.write(data)
        return image


class BootRecord(NtDisks):
    @needs_samples("dissect.ntfs")
    @needs(*MAKERS, QEMU)
    def test_a_sound_one_starts_and_lacks_only_the_store(self):
        for name in ("BOOTMGR", "bootmgr"):
            path = self.disk({name: self.manager()})
            trace = trace_file(path)
            self.assertEqual(ids(trace, "fatal"), ["boot-store-missing"])
            self.assertEqual(trace.failing_phase, "boot-manager")
        self.assertIn(SAYS, screen_of(path, "bios", SAYS, seconds=40))

    @needs_samples("dissect.ntfs")
    @needs(*MAKERS, QEMU)
    def test_every_later_name_counts(self):
        path = self.disk({"NTLDR": self.manager()})
        self.assertEqual(ids(trace_file(path), "fatal"), [])
        self.assertIn(SAYS, screen_of(path, "bios", SAYS, seconds=40))

    @needs_samples("dissect.ntfs")
    @needs(*MAKERS)
    def test_a_manager_that_is_missing_renamed_or_empty(self):
        rows = (
            ({}, "first-file-missing"),
            ({"BOOTMGR.OLD": self.manager()}, "first-file-missing"),
            ({"BOOTMGR": b""}, "first-file-empty"),
        )
        for files, expected in rows:
            with self.subTest(expected=expected, files=list(files)):
                trace = trace_file(self.disk(files))
                self.assertEqual(
                    (ids(trace, "fatal"), trace.failing_phase), ([expected], "boot-manager")
                )

    @needs_samples("dissect.ntfs")
    @needs(*MAKERS, QEMU)
    def test_a_missing_and_a_compressed_manager_stop_real_firmware_too(self):
        missing = screen_of(self.disk({}), "bios", "to restart", seconds=40)
        self.assertIn("to restart", missing)
        self.assertNotIn(SAYS, missing)
        path = self.disk({"BOOTMGR": self.manager() * 8}, "-C", "-c", "4096")
        trace = trace_file(path)
        self.assertEqual(ids(trace, "fatal"), ["first-file-compressed"])
        self.assertIn("is compressed", screen_of(path, "bios", "is compressed", seconds=40))


def at(offset, data):
    """Bytes over those that are at a place of the disk."""

    def change(file):
        file.seek(offset)
        file.write(data)

    return change


VOLUME = START * SECTOR
SECOND_ENTRY = b"\x80\0\0\0\x07\0\0\0" + struct.pack("<II", START + 90_000, 100)
FAULTS = (
    # what is done, what real code says in the end (nothing: it hangs), phase, finding
    ("no flag", at(446, b"\0"), "No bootable", "boot-record", "no-active-entry"),
    ("two flags", at(462, SECOND_ENTRY), "No bootable", "boot-record", "two-active-entries"),
    (
        "entry elsewhere",
        at(454, struct.pack("<I", START + 1000)),
        "No bootable",
        "boot-record",
        "volume-boot-sector-blank",
    ),
    ("boot code blank", at(0, bytes(440)), "", "boot-record", "boot-code-blank"),
    (
        "boot sector blank",
        at(VOLUME, bytes(SECTOR)),
        "No bootable",
        "boot-record",
        "volume-boot-sector-blank",
    ),
    (
        "boot sector unsigned",
        at(VOLUME + 510, b"\0\0"),
        "No bootable",
        "boot-record",
        "volume-boot-sector-damaged",
    ),
    (
        "boot sector of another place",
        at(VOLUME + 28, struct.pack("<I", 63)),
        "",
        "boot-record",
        "hidden-sectors-wrong",
    ),
    (
        "all code but its first sector blank",
        at(VOLUME + SECTOR, bytes(15 * SECTOR)),
        "",
        "boot-record",
        "volume-boot-code-fails",
    ),
    (
        "one sector of the code blank",
        at(VOLUME + 4 * SECTOR, bytes(SECTOR)),
        "to restart",
        "boot-record",
        "volume-boot-code-fails",
    ),
    ("manager missing", None, "to restart", "boot-manager", "first-file-missing"),
)


class WithItsSystem(NtDisks):
    """A disk with one volume: real boot record, the manager's stub, its store, a system."""

    def made(self, files, change=None):
        volume = bytearray(template())
        volume[28:32] = struct.pack("<I", START)
        store = store_bytes(StoreDevice("boot"), "winload.exe")
        image = self.disk({**files, "boot/BCD": store}, volume=bytes(volume))
        if change is not None:
            with image.open("r+b") as file:
                change(file)
        return image

    @needs_samples("dissect.ntfs")
    @needs(*MAKERS, QEMU)
    def test_where_we_say_that_it_ends_real_code_does_not_reach_the_manager(self):
        sound = self.made({"BOOTMGR": self.manager()})
        trace = trace_file(sound)
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "no-fault-found"))
        self.assertIn("run in the emulator", " ".join(check.says for check in trace.checks))
        self.assertIn(SAYS, screen_of(sound, "bios", SAYS, seconds=40))
        for what, change, says, phase, kind in FAULTS:
            with self.subTest(what):
                image = self.made({"BOOTMGR": self.manager()} if change else {}, change)
                trace = trace_file(image)
                self.assertEqual((ids(trace, "fatal"), trace.failing_phase), ([kind], phase))
                quiet = 40 if says else 4  # nothing is said: some seconds behind the first line
                screen = screen_of(image, "bios", says or SAYS, seconds=40, idle=quiet)
                self.assertIn(says or "Booting from Hard Disk", screen)
                self.assertNotIn(SAYS, screen)


if __name__ == "__main__":
    unittest.main()
