"""GPT and UEFI on disks made by sfdisk, mkfs and mtools: findings, repairs, and what other programs
say of them.
"""

import shutil
import struct
import unittest
import zlib

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.formats import exfat, gpt, pe
from mending.model import InputError, Window
from mending.workshop import UEFI_FAULTS, uefi_disk
from mending.workshop.disks import code
from tests.support import (
    SECTOR,
    START,
    InFolder,
    ids,
    needs,
    patch,
    sha,
    tool,
    trace_bytes,
    trace_file,
)

UNREAD = "boot-manager-not-checked"
"""The note of every sound disk here: its loader is a stub that cannot be read further."""

VOLUME = START * SECTOR
LAST = (64 << 20) - SECTOR
FAT_TOOLS = ("sfdisk", "mkfs.fat", "mcopy")


def header(here, other, first, last, entries, array):
    """A header written from the specification, not by our own code."""
    places = struct.pack("<QQQQ16sQ", here, other, first, last, b"x" * 16, entries)
    head = b"EFI PART" + struct.pack("<IIII", 0x10000, 92, 0, 0) + places
    head += struct.pack("<III", 128, 128, zlib.crc32(array))
    return head[:16] + struct.pack("<I", zlib.crc32(head)) + head[20:]


class Disks(InFolder):
    def efi_disk(self, name="efi", loader=True):
        path = self.folder / f"{name}.img"
        path.write_bytes(bytes(64 << 20))
        tool(
            "sfdisk",
            "-q",
            path,
            stdin=f"label: gpt\nstart={START},size=80000,type=uefi\nsize=20000,type=linux\n",
        )
        tool("mkfs.fat", "-F", "32", "-s", "1", "-h", START, "--offset", START, path, 40000)
        if loader:
            file = self.folder / "loader.efi"
            file.write_bytes(code("desk-loader-efi"))
            tool("mmd", "-i", f"{path}@@{VOLUME}", "::EFI", "::EFI/BOOT", "::EFI/other")
            tool("mcopy", "-i", f"{path}@@{VOLUME}", file, "::EFI/BOOT/BOOTX64.EFI")
        return path


class Findings(Disks):
    def check(self, name, patches, expected, phase=None):
        with self.subTest(name):
            path = self.folder / "broken.img"
            shutil.copy(self.sound, path)
            for offset, data in patches:
                patch(path, offset, data)
            before = sha(path)
            trace = trace_file(path)
            self.assertIn(expected, ids(trace))
            self.assertEqual(trace.failing_phase, phase)
            self.assertEqual(sha(path), before)
            return trace

    @needs(*FAT_TOOLS)
    def test_each_fault_is_found_and_a_sound_disk_has_none(self):
        self.sound = self.efi_disk()
        trace = trace_file(self.sound)
        self.assertEqual((ids(trace), trace.verdict, trace.firmware), ([UNREAD], "unsure", "uefi"))
        self.assertEqual(
            [volume.type for volume in trace.volumes], ["EFI system partition", "Linux"]
        )
        self.check(
            "crc",
            [(SECTOR + 60, bytes([self.sound.read_bytes()[SECTOR + 60] ^ 1]))],
            "gpt-primary-damaged",
        )
        self.check("entries", [(2 * SECTOR + 40, b"\xee")], "gpt-primary-damaged")
        self.check("backup", [(LAST, bytes(8))], "gpt-backup-damaged")
        self.check("backup entries", [(LAST - 20 * SECTOR, b"\xee")], "gpt-backup-damaged")
        self.check("both", [(SECTOR, bytes(8)), (LAST, bytes(8))], "gpt-both-damaged", "firmware")
        self.check("record", [(446, bytes(66))], "protective-record-missing", "firmware")
        self.check("hybrid", [(462, b"\0\0\2\0\x0c\0\0\0\0\10\0\0\x80\x38\1\0")], "hybrid-record")
        self.check("boot sector", [(VOLUME, bytes(SECTOR))], "efi-volume-damaged", "boot-record")

    @needs(*FAT_TOOLS)
    def test_a_disk_larger_or_smaller_than_its_table_says(self):
        self.sound = self.efi_disk()
        larger, smaller = self.folder / "larger.img", self.folder / "smaller.img"
        for path, size in ((larger, 96 << 20), (smaller, 60 << 20)):
            shutil.copy(self.sound, path)
            with path.open("r+b") as file:
                file.truncate(size)
        self.assertEqual(ids(trace_file(larger)), ["gpt-disk-larger", UNREAD])
        found = ids(trace_file(smaller))
        self.assertEqual(
            (set(found), trace_file(smaller).failing_phase),
            ({"gpt-backup-damaged", "gpt-disk-smaller", UNREAD}, None),
        )
        self.assertIn("ends before", self.run_here("mend", smaller, "gpt-copy", "--yes", expect=4))

    @needs("sgdisk", "mkfs.fat", "mcopy")
    def test_sectors_of_4096_bytes(self):
        draft = uefi_disk()
        path = self.folder / "small.img"
        draft.save(path)
        volume = path.read_bytes()[VOLUME : VOLUME + 81920 * SECTOR]
        array = gpt.encode_entry(
            gpt.EFI_SYSTEM, gpt.EFI_SYSTEM, 256, 256 + 81920 // 8 - 1, "EFI"
        ).ljust(16384, b"\0")
        sectors = 25000
        data = bytearray(sectors * 4096)
        data[256 * 4096 : 256 * 4096 + len(volume)] = volume
        data[446:512] = struct.pack("<B3xB3xII48xH", 0, 0xEE, 1, sectors - 1, 0xAA55)
        for here, other, entries in ((1, sectors - 1, 2), (sectors - 1, 1, sectors - 5)):
            data[here * 4096 : here * 4096 + 92] = header(
                here, other, 6, sectors - 6, entries, array
            )
            data[entries * 4096 : entries * 4096 + len(array)] = array
        path.write_bytes(data)
        trace = trace_file(path)
        self.assertEqual(
            (trace.target.sector, trace.verdict, ids(trace)), (4096, "unsure", [UNREAD])
        )
        patch(path, 4096, bytes(4096))
        self.assertEqual(
            (trace_file(path).target.sector, ids(trace_file(path))),
            (4096, ["gpt-primary-damaged", UNREAD]),
        )
        self.json_here("mend", path, "gpt-copy", "--yes")
        self.assertEqual(path.read_bytes(), bytes(data))

    @needs(*FAT_TOOLS)
    def test_what_is_decided_by_a_boot_entry_is_unsure(self):
        path = self.efi_disk()
        inside = ["-i", f"{path}@@{VOLUME}"]
        tool("mren", *inside, "::EFI/BOOT/BOOTX64.EFI", "::EFI/other/desk.efi")
        trace = trace_file(path)
        self.assertEqual(
            (trace.verdict, trace.failing_phase, ids(trace)),
            ("unsure", None, ["efi-entry-needed", UNREAD]),
        )
        tool("mdel", *inside, "::EFI/other/desk.efi")
        self.assertEqual(ids(trace_file(path), "fatal"), ["efi-loader-missing"])
        empty = self.efi_disk("empty", loader=False)
        patch(empty, VOLUME, bytes(1 << 20))
        self.assertEqual(trace_file(empty).fatal[0].repairs, ())


class Repairs(Disks):
    @needs(*FAT_TOOLS, "sgdisk")
    def test_gpt_copy_restores_what_was_there_bit_for_bit_and_undo_takes_it_back(self):
        sound = self.efi_disk()
        whole = sound.read_bytes()
        dump = tool("sfdisk", "--dump", sound)
        faults = {
            "primary": (SECTOR, bytes(33 * SECTOR)),
            "backup": (LAST - 32 * SECTOR, bytes(33 * SECTOR)),
            "record": (446, bytes(66)),
        }
        for name, (offset, data) in faults.items():
            with self.subTest(name):
                sound.write_bytes(whole)
                patch(sound, offset, data)
                broken = sha(sound)
                self.json_here("mend", sound, "gpt-copy", "--yes")
                now = sound.read_bytes()
                changed = [
                    at for at in range(446, 466) if now[at] != whole[at]
                ]  # CHS fields are a matter of taste
                self.assertTrue(
                    now[512:] == whole[512:] and set(changed) <= {447, 448, 449, 451, 452, 453}
                )
                self.assertEqual(tool("sfdisk", "--dump", sound), dump)
                self.assertIn("No problems found", tool("sgdisk", "--verify", sound))
                self.run_here("undo", sound)
                self.assertEqual(sha(sound), broken)

    @needs(*FAT_TOOLS)
    def test_gpt_copy_is_refused_with_a_reason(self):
        path = self.efi_disk()
        self.assertIn("are sound", self.run_here("mend", path, "gpt-copy", "--yes", expect=4))
        patch(path, SECTOR, bytes(8))
        patch(path, LAST, bytes(8))
        self.assertIn("Both copies", self.run_here("mend", path, "gpt-copy", "--yes", expect=4))
        other = self.folder / "plain.img"
        other.write_bytes(bytes(510) + b"\x55\xaa" + bytes(1 << 20))
        self.assertIn("no GPT", self.run_here("mend", other, "gpt-copy", "--yes", expect=4))

    @needs(*FAT_TOOLS)
    def test_two_sound_copies_that_differ_are_not_chosen_between(self):
        path = self.efi_disk()
        header = bytearray(path.read_bytes()[LAST : LAST + 92])
        header[56] ^= 1
        header[16:20] = bytes(4)
        header[16:20] = struct.pack("<I", zlib.crc32(header))
        patch(path, LAST, bytes(header))
        self.assertEqual(ids(trace_file(path)), ["gpt-copies-differ", UNREAD])
        patch(path, 446, bytes(66))
        self.assertIn("differ", self.run_here("mend", path, "gpt-copy", "--yes", expect=4))

    @needs(*FAT_TOOLS, "mkfs.ntfs", "mkfs.exfat", "fsck.exfat")
    def test_boot_sector_of_fat32_exfat_and_ntfs(self):
        makers = {
            "fat32": ("mkfs.fat", "-F", "32", "-s", "1"),
            "exfat": ("mkfs.exfat",),
            "ntfs": ("mkfs.ntfs", "-q", "-F", "-f"),
        }
        for kind, words in makers.items():
            with self.subTest(kind):
                volume = self.folder / kind
                volume.write_bytes(bytes(40 << 20))
                tool(*words, volume)
                path = self.partitioned(f"{kind}-disk", f"start={START},size={80 << 10},type=7")
                patch(path, VOLUME, volume.read_bytes())
                self.assertEqual(trace_file(path).volumes[0].filesystem, kind)
                sound = sha(path)
                patch(path, VOLUME, bytes(SECTOR))
                broken = sha(path)
                self.assertEqual(trace_file(path).volumes[0].filesystem, kind)
                self.json_here("mend", path, "boot-sector", "--yes")
                self.assertEqual(sha(path), sound)
                self.run_here("undo", path)
                self.assertEqual(sha(path), broken)

    @needs(*FAT_TOOLS)
    def test_boot_sector_is_refused_with_a_reason(self):
        path = self.efi_disk()

        def refused():
            return self.run_here("mend", path, "boot-sector", "--yes", expect=4)

        self.assertIn("nothing to write", refused().lower())
        patch(path, VOLUME, bytes(SECTOR))
        patch(path, VOLUME + 32 * SECTOR, b"\0\0\0\0")
        self.assertIn("does not fit", refused())
        patch(path, VOLUME + 6 * SECTOR, bytes(SECTOR))
        self.assertIn("no copy", refused())
        path = self.partitioned("short", f"start={START},size=80000,type=c,bootable")
        tool("mkfs.fat", "-F", "32", "-s", "1", "-h", START, "--offset", START, path, 40000)
        patch(path, VOLUME, bytes(SECTOR))
        patch(path, 458, (70000).to_bytes(4, "little"))
        self.assertIn("older volume", refused())

    @needs(*FAT_TOOLS, "ntfscp", "mkfs.ntfs")
    def test_nothing_is_written_into_a_volume_that_sleeps(self):
        volume, sleep = self.folder / "nt", self.folder / "hiberfil.sys"
        volume.write_bytes(bytes(20 << 20))
        sleep.write_bytes(b"HIBR" + bytes(5000))
        tool("mkfs.ntfs", "-q", "-F", "-f", volume)
        tool("ntfscp", volume, sleep, "hiberfil.sys")
        path = self.partitioned("asleep", f"start={START},size={40 << 10},type=7")
        patch(path, VOLUME, volume.read_bytes())
        patch(path, VOLUME, bytes(SECTOR))
        self.assertIn("hibernated", self.run_here("mend", path, "boot-sector", "--yes", expect=4))

    def test_all_goes_in_chain_order_tries_in_memory_first_and_says_where_it_stops(self):
        draft = uefi_disk()
        for name in ("no-protective-entry", "blank-backup-header", "blank-efi-boot-sector"):
            UEFI_FAULTS[name](draft)
        path = self.folder / "three.img"
        draft.save(path)
        before = sha(path)
        offered = self.json_here("mend", path)
        self.assertEqual([step["repair"] for step in offered["steps"]], ["gpt-copy", "boot-sector"])
        self.assertEqual(
            (offered["done"], offered["failing_after"], sha(path)), (False, None, before)
        )
        self.run_here("mend", path, "--all", expect=4)
        self.assertEqual(sha(path), before)
        done = self.json_here("mend", path, "--all", "--yes")
        self.assertEqual(
            (done["done"], done["failing_before"], done["failing_after"]), (True, "firmware", None)
        )
        self.assertEqual(self.json_here("mend", path, "--all", "--yes")["steps"], [])
        patch(path, VOLUME, bytes(7 * SECTOR))
        patch(path, 446, bytes(16))
        self.assertEqual(
            [step["repair"] for step in self.json_here("mend", path)["steps"]], ["gpt-copy"]
        )


class Identities(Disks):
    @needs(*FAT_TOOLS, "sgdisk")
    def test_entries_that_agree_with_the_disk_are_kept_to_the_last_bit(self):
        path = self.efi_disk()
        other = self.folder / "other"
        other.write_bytes(bytes(8 << 20))
        tool("mkfs.fat", "-F", "16", "-s", "1", "-n", "TICKETS", other)
        tool("sgdisk", "-c", "2:berth", "-u", "2:5EA00000-0000-4000-8000-000000000002", path)
        at = 2 * SECTOR + 128 + 32
        second = int.from_bytes(path.read_bytes()[at : at + 8], "little") * SECTOR
        patch(path, second, other.read_bytes())
        sound = path.read_bytes()
        entries = sound[2 * SECTOR : 34 * SECTOR]
        for name, damage, kept in (
            ("checksums", [(SECTOR + 16, b"\1\2"), (LAST + 16, b"\3\4")], True),
            ("both headers gone", [(SECTOR, bytes(SECTOR)), (LAST, bytes(SECTOR))], True),
            ("one array gone, too", [(SECTOR, bytes(33 * SECTOR)), (LAST, bytes(8))], True),
        ):
            with self.subTest(name):
                path.write_bytes(sound)
                for offset, data in damage:
                    patch(path, offset, data)
                done = self.json_here("mend", path, "partition-table", "--yes")
                self.assertEqual(done["failing_after"], None)
                now = path.read_bytes()
                self.assertEqual(now[2 * SECTOR : 34 * SECTOR] == entries, kept)
                if name == "checksums":
                    self.assertEqual(now, sound)
                self.assertIn("No problems found", tool("sgdisk", "-v", path))
                self.run_here("undo", path)


class AnyBytes(unittest.TestCase):
    @given(st.binary(max_size=1200), st.integers(0, 4000))
    @settings(max_examples=300)
    def test_readers_give_a_record_or_our_error(self, data, size):
        for reader in (
            lambda w: gpt.read_header(w, 1),
            lambda w: pe.read(w, size),
            pe.read,
            exfat.read,
        ):
            for start in (
                b"",
                b"EFI PART\0\0\1\0\x5c\0\0\0",
                b"MZ" + bytes(58) + b"\x40\0\0\0PE\0\0\x64\x86\3\0",
            ):
                try:
                    reader(Window(start + data))
                except InputError:
                    continue

    @given(st.data())
    @settings(max_examples=60)
    def test_every_flipped_bit_of_a_header_is_noticed(self, data):
        loader = bytearray(self.header)
        at, bit = data.draw(st.integers(0, 91)), data.draw(st.integers(0, 7))
        loader[at] ^= 1 << bit
        self.assertTrue(gpt.read_header(Window(bytes(loader).ljust(512, b"\0"), 512), 1).problems)

    @given(st.data())
    @settings(max_examples=40)
    def test_a_disk_with_damage_anywhere_in_its_tables_is_traced(self, data):
        disk = bytearray(self.small)
        for _ in range(data.draw(st.integers(1, 6))):
            at = data.draw(
                st.sampled_from([446, 512, 560, 590, 1024, 1070, len(disk) - 512, len(disk) - 450])
            )
            disk[at + data.draw(st.integers(0, 15))] = data.draw(st.integers(0, 255))
        self.assertEqual(len(trace_bytes(bytes(disk)).phases), 8)

    @classmethod
    def setUpClass(cls):
        array = gpt.encode_entry(gpt.EFI_SYSTEM, gpt.EFI_SYSTEM, 40, 90, "EFI").ljust(16384, b"\0")
        disk = bytearray(200 * SECTOR)
        disk[446:512] = struct.pack("<B3xB3xII48xH", 0, 0xEE, 1, 199, 0xAA55)
        for here, other, entries in ((1, 199, 2), (199, 1, 167)):
            head = header(here, other, 34, 166, entries, array)
            disk[here * SECTOR : here * SECTOR + 92] = head
            disk[entries * SECTOR : entries * SECTOR + len(array)] = array
            cls.header = head if here == 1 else cls.header
        cls.small = bytes(disk)
        assert not gpt.read_header(Window(cls.small[512:1024], 512), 1).problems


if __name__ == "__main__":
    unittest.main()
