"""Findings that are seldom met: each made on a disk of real programs by the one change that
leads to it.
"""

import struct
import unittest
import zlib

from mending.boot.trace import trace_target
from mending.repair.boot import own_code
from mending.source import FaultyMemory
from mending.workshop import bios_disk
from tests.support import (
    MBR_FILES,
    SECTOR,
    START,
    InFolder,
    ids,
    needs,
    patch,
    tool,
    trace_bytes,
    trace_file,
)
from tests.systems import (
    EFI_MAKERS,
    MAKERS,
    MENU,
    ROOT,
    ROOT_START,
    STUB,
    VERSION,
    EfiSystems,
    Systems,
    program,
)
from tests.test_findings import EXTENDED, LINUX, disk
from tests.test_parsers import entry, table
from tests.volumes import MIB, disk_of, make_volume

ENTRY_AT, ENTRY_BYTES = 0x1BE, 16
CORE_NUMBERS = 2 * SECTOR + 8
"""Where a core in the gap says how long it is, packed and unpacked, and how much redundancy it
has: 8 bytes into its second sector.
"""
TARGETS = "usr/lib/systemd/system"


def menu(*body):
    return "\n".join(["menuentry 'Ferry Linux' {", *body, "}", ""]).encode()


class Tables(InFolder):
    @needs("sfdisk")
    def test_entries_of_a_gpt_that_overlap(self):
        path = self.folder / "disk.img"
        path.write_bytes(bytes(64 * MIB))
        rows = "label: gpt\nstart=2048,size=80000,type=linux\nsize=20000,type=linux\n"
        tool("sfdisk", "-q", path, stdin=rows)
        data = bytearray(path.read_bytes())
        last = len(data) // SECTOR - 1
        for header, array in ((1, 2), (last, last - 32)):
            at = array * SECTOR
            data[at + 128 + 32 : at + 128 + 40] = (70_000).to_bytes(8, "little")
            sums = zlib.crc32(data[at : at + 128 * 128])
            head = header * SECTOR
            data[head + 88 : head + 92] = sums.to_bytes(4, "little")
            data[head + 16 : head + 20] = bytes(4)
            sums = zlib.crc32(data[head : head + 92])
            data[head + 16 : head + 20] = sums.to_bytes(4, "little")
        self.assertIn("gpt-entries-overlap", ids(trace_bytes(bytes(data))))

    def test_an_ebr_that_cannot_be_read(self):
        whole = disk(table(entry(0x80, LINUX, 64, 900), entry(0, EXTENDED, 1000, 3000)))
        source = FaultyMemory(whole, bad=((1000 * SECTOR, SECTOR),))
        self.assertIn("table-logical-unreadable", ids(trace_target(source)))

    @needs("sfdisk", "mke2fs")
    def test_a_volume_that_no_entry_lists(self):
        volumes = [make_volume(self.folder, kind) for kind in ("ext4", "ext3")]
        path, places = disk_of(self.folder, volumes, label="dos")
        self.assertNotIn("volume-unlisted", ids(trace_file(path)))
        patch(path, ENTRY_AT + ENTRY_BYTES, bytes(ENTRY_BYTES))
        trace = trace_file(path)
        self.assertIn("volume-unlisted", ids(trace, "note"))
        found = next(each for each in trace.findings if each.id == "volume-unlisted")
        self.assertEqual(found.where.offset, places[1])

    @needs("sfdisk", "mke2fs", "mkfs.fat")
    def test_entries_shorter_than_their_volumes(self):
        for kind in ("ext4", "fat16"):
            path, _ = disk_of(self.folder, [make_volume(self.folder, kind)], label="dos")
            patch(path, ENTRY_AT + 12, (10_000).to_bytes(4, "little"))
            self.assertIn("volume-larger-than-entry", ids(trace_file(path), "warning"))


class Sectors(InFolder):
    @needs("mkfs.fat", "sfdisk")
    def test_code_that_only_prints_a_message(self):
        """A volume's own first sector, with the code that its maker puts there, as a disk's."""
        volume = make_volume(self.folder, "fat16")
        path, _ = disk_of(self.folder, [volume], label="dos")
        patch(path, 0, volume.read_bytes()[:440])
        trace = trace_file(path)
        self.assertEqual(ids(trace, "fatal")[:1], ["boot-code-message"])
        self.assertEqual(trace.failing_phase, "boot-record")

    @needs("sfdisk", "mkfs.fat", "syslinux", MBR_FILES)
    def test_a_copy_of_a_boot_sector_that_says_something_else(self):
        path = self.fat_started_by_syslinux(bits=32)
        copy = (START + 6) * SECTOR
        patch(path, copy, path.read_bytes()[START * SECTOR :][:SECTOR])
        self.assertNotIn("backup-boot-sector-differs", ids(trace_file(path)))
        patch(path, copy + 67, b"\x12\x34")
        self.assertIn("backup-boot-sector-differs", ids(trace_file(path), "warning"))

    def test_a_first_file_whose_clusters_end_too_early(self):
        path = self.folder / "bios.img"
        bios_disk(own_code()).save(path)
        sound = trace_file(path)
        self.assertEqual(ids(sound, "fatal"), [])
        head = path.read_bytes()[START * SECTOR :][:SECTOR]
        reserved, fats = struct.unpack_from("<HB", head, 14)
        length = struct.unpack_from("<I", head, 36)[0]
        root = START + reserved + fats * length
        listing = path.read_bytes()[root * SECTOR :][: 64 * 32]
        rows = [listing[at : at + 32] for at in range(0, len(listing), 32)]
        row = next(number for number, each in enumerate(rows) if each.startswith(b"DESKLOAD"))
        long = (1 << 20).to_bytes(4, "little")  # more than its one chain of clusters holds
        patch(path, root * SECTOR + row * 32 + 28, long)
        trace = trace_file(path)
        self.assertIn("first-file-cut-short", ids(trace, "warning"))
        self.assertEqual(trace.verdict, "unsure")

    @needs("sfdisk", "mke2fs")
    def test_a_copy_of_a_superblock_of_another_volume(self):
        volumes = [make_volume(self.folder, "ext4", name) for name in ("one", "other")]
        path, places = disk_of(self.folder, volumes)
        copy = 8193 * 1024
        foreign = volumes[1].read_bytes()[copy : copy + 1024]
        patch(path, places[0] + copy, foreign)
        self.assertEqual(ids(trace_file(path), "warning"), ["superblock-copy-differs"])


class Grub(Systems):
    @needs(*MAKERS)
    def test_a_core_that_cannot_be_read_or_judged_or_that_mends_itself(self):
        path = self.disk(self.tree())
        sound = path.read_bytes()
        source = FaultyMemory(sound, bad=((SECTOR, SECTOR),))
        trace = trace_target(source)
        self.assertEqual(
            (ids(trace, "fatal"), trace.failing_phase), (["grub-core-unreadable"], "boot-manager")
        )
        patch(path, CORE_NUMBERS, b"\xff" * 4)
        trace = trace_file(path)
        self.assertEqual((ids(trace), trace.verdict), (["grub-core-not-checked"], "unsure"))
        path.write_bytes(sound)
        patch(path, CORE_NUMBERS + 8, (512).to_bytes(4, "little"))
        patch(path, SECTOR + 20_000, b"\x99\x98\x97")
        trace = trace_file(path)
        self.assertEqual((ids(trace), trace.verdict), (["grub-core-mends-itself"], "unsure"))

    @needs(*MAKERS)
    def test_menus_that_start_nothing_or_do_not_end(self):
        empty = {"boot/grub/grub.cfg": menu("echo 'Casting off'")}
        self.check(["grub-entry-empty"], "boot-manager", empty)
        unclosed = MENU + "menuentry 'Half' {\n  linux /boot/vmlinuz\n"
        trace = self.check(
            ["grub-menu-damaged"], None, {"boot/grub/grub.cfg": unclosed.encode()}, "warning"
        )
        self.assertEqual(trace.findings[0].where.path, "/boot/grub/grub.cfg")


class Linux(Systems):
    @needs(*MAKERS)
    def test_an_initramfs_of_no_bytes_and_one_that_is_too_long_to_look_at(self):
        self.check(["initramfs-empty"], "loader", {"boot/initrd": b""})

    @needs(*MAKERS)
    def test_an_init_that_may_not_be_run(self):
        path = self.disk(self.tree())
        self.change(path, "sif /usr/lib/systemd/systemd mode 0100644")
        trace = trace_file(path)
        self.assertEqual(
            (ids(trace, "fatal"), trace.failing_phase), (["init-not-executable"], "kernel")
        )

    @needs(*MAKERS)
    def test_an_entry_shorter_than_its_root(self):
        path = self.disk(self.tree())
        patch(path, ENTRY_AT + 12, (100_000).to_bytes(4, "little"))
        trace = trace_file(path)
        self.assertEqual(
            (ids(trace, "fatal"), trace.failing_phase), (["root-larger-than-entry"], "kernel")
        )

    @needs(*MAKERS)
    def test_a_default_target_that_is_an_emergency_shell(self):
        files = {**self.tree(), f"{TARGETS}/emergency.target": b"[Unit]\n"}
        path = self.disk(files)
        self.change(path, f"rm /{TARGETS}/default.target")
        self.change(path, f"symlink /{TARGETS}/default.target emergency.target")
        trace = trace_file(path)
        self.assertEqual((ids(trace, "fatal"), trace.failing_phase), (["goal-is-bare"], "session"))

    @needs(*MAKERS)
    def test_what_another_init_starts_is_not_read(self):
        words = MENU.replace(" quiet", " quiet init=/usr/bin/purser", 1).encode()
        trace = trace_file(
            self.disk({**self.tree(), "boot/grub/grub.cfg": words, "usr/bin/purser": program()})
        )
        self.assertIn("session-not-checked", ids(trace, "note"))
        self.assertEqual(trace.verdict, "unsure")

    def change(self, path, command):
        """One command of the file system's own debugger on the root."""
        held = self.folder / "volume"
        held.write_bytes(path.read_bytes()[START * SECTOR :])
        tool("debugfs", "-w", "-R", command, held)
        patch(path, START * SECTOR, held.read_bytes())


class EfiLinux(EfiSystems):
    @needs(*EFI_MAKERS, STUB, "objcopy", "sgdisk")
    def test_a_roots_name_that_two_volumes_have(self):
        path = self.efi_disk({"EFI/BOOT/BOOTX64.EFI": self.unified()})
        self.assertEqual(ids(trace_file(path)), [])
        start = ROOT_START + 122_880
        tool("sgdisk", "-n", f"3:{start}:+4M", path)
        other = self.folder / "other"
        other.write_bytes(bytes(4 * MIB))
        tool("mke2fs", "-q", "-t", "ext4", "-U", ROOT, other)
        patch(path, start * SECTOR, other.read_bytes())
        trace = trace_file(path)
        self.assertIn("root-name-twice", ids(trace, "warning"))
        self.assertEqual(trace.verdict, "unsure")

    @needs(*EFI_MAKERS, STUB, "objcopy")
    def test_an_initramfs_packed_in_a_way_that_is_not_read(self):
        lzop = b"\x89LZO\0\r\n\x1a\n" + VERSION.encode() * 40
        trace = trace_file(self.efi_disk({"EFI/BOOT/BOOTX64.EFI": self.unified(initrd=lzop)}))
        self.assertIn("files-not-checked", ids(trace, "note"))
        self.assertEqual(trace.verdict, "unsure")


if __name__ == "__main__":
    unittest.main()
