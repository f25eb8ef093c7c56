"""Every reader: any bytes give a record or our own error; known layouts are read at their known
places.
"""

import struct
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.boot.bios import recognise_code
from mending.boot.trace import trace_target
from mending.case.events import decode_record
from mending.disk.content_kind import HEAD_BYTES, content_kind_of
from mending.formats import ext, fat, grub, mbr, ntfs
from mending.model import InputError, MendingError, Window
from mending.source import FaultyMemory, MemorySource
from tests.support import ids, trace_bytes

SECTORS = st.binary(min_size=0, max_size=2100)
READERS = (mbr.read, fat.read, ntfs.read, ext.read, grub.read_stage_one, grub.read_core_head)


def table(*entries):
    """A first sector with these 16-byte entries; written from the specification, not by our own
    code.
    """
    return bytes(446) + b"".join(entries).ljust(64, b"\0") + b"\x55\xaa"


def entry(flag, kind, first, count):
    return struct.pack("<B3xB3xII", flag, kind, first, count)


class AnyBytes(unittest.TestCase):
    @given(SECTORS, st.integers(0, 1 << 45))
    @settings(max_examples=400)
    def test_readers_give_a_record_or_our_error(self, data, offset):
        for reader in READERS:
            try:
                reading = reader(Window(data, offset))
            except InputError:
                continue
            for problem in reading.problems:
                self.assertTrue(offset <= problem.offset <= offset + len(data))
        for look in (
            fat.looks_like,
            ntfs.looks_like,
            ext.looks_like,
            grub.is_stage_one,
            grub.is_core_head,
        ):
            self.assertIn(look(Window(data)), (True, False))
        recognise_code(Window(data))

    @given(st.binary(min_size=512, max_size=512), st.binary(max_size=1024), st.integers(1, 40))
    @settings(max_examples=200)
    def test_a_whole_disk_of_any_bytes_is_traced(self, first, second, copies):
        try:
            trace = trace_bytes(first + second * copies)
        except InputError as error:
            self.assertIn("is no disk", error.says)
            return
        self.assertEqual(len(trace.phases), 8)
        self.assertEqual(trace.verdict == "fails", trace.failing_phase is not None)

    @given(st.data())
    @settings(max_examples=150)
    def test_a_disk_with_flipped_bytes_is_traced(self, data):
        disk = bytearray(table(entry(0x80, 0x0C, 8, 40)).ljust(24 << 9, b"\0"))
        for _ in range(data.draw(st.integers(1, 8))):
            disk[data.draw(st.integers(0, len(disk) - 1))] = data.draw(st.integers(0, 255))
        self.assertEqual(len(trace_bytes(bytes(disk)).phases), 8)

    @given(st.binary(max_size=600))
    def test_a_case_record_of_any_bytes_is_read_or_refused(self, data):
        try:
            decode_record(data, "record")
        except MendingError as error:
            self.assertTrue(error.says.endswith("."))

    @given(st.binary(max_size=HEAD_BYTES))
    def test_the_sort_of_any_file_is_told(self, data):
        self.assertIn(content_kind_of(data), ("disk", "variables", "records", "text", "other"))


class Layouts(unittest.TestCase):
    def test_a_boot_record_is_read_from_its_places(self):
        data = table(entry(0x80, 0x07, 2048, 100), entry(0, 0x83, 4096, 50))
        reading = mbr.read(Window(data), 10000)
        self.assertEqual(reading.problems, ())
        first, second = reading.record.entries
        self.assertEqual(
            (first.first_lba, first.sectors, first.last_lba_inclusive, first.active),
            (2048, 100, 2147, True),
        )
        self.assertEqual((second.type_name, second.active, second.offset), ("Linux", False, 462))

    def test_every_fault_of_a_table_is_said_with_its_offset(self):
        data = table(
            entry(0x01, 7, 2048, 100),
            entry(0, 7, 2100, 5000),
            entry(0, 7, 9000, 0),
            entry(0, 7, 0, 5),
        )
        found = {problem.code: problem.offset for problem in mbr.read(Window(data), 4000).problems}
        self.assertEqual(
            found,
            {
                "flag-odd": 446,
                "entry-past-end": 470,
                "entry-empty": 490,
                "entry-at-zero": 502,
                "entries-overlap": 470,
            },
        )

    def test_chs_of_an_lba_follows_the_usual_geometry(self):
        self.assertEqual(mbr.chs(0), b"\x00\x01\x00")
        self.assertEqual(mbr.chs(2048), bytes((32, 33, 0)))
        self.assertEqual(mbr.chs(1 << 31), b"\xfe\xff\xff")

    def test_fat_kinds_are_told_by_cluster_count(self):
        def sector(total, per_fat, reserved=1):
            return struct.pack(
                "<3s8sHBHBHHBHHHII",
                b"\xeb\x3c\x90",
                b"x" * 8,
                512,
                1,
                reserved,
                2,
                512,
                total,
                0xF8,
                per_fat,
                63,
                255,
                0,
                0,
            )

        for total, per_fat, kind in ((4000, 12, "fat12"), (4200, 17, "fat16")):
            reading = fat.read(Window(sector(total, per_fat).ljust(510, b"\0") + b"\x55\xaa"))
            self.assertEqual((reading.record.kind, reading.problems), (kind, ()))

    @given(
        st.integers(0, 255),
        st.integers(0, 255),
        st.integers(0, 2**32 - 1),
        st.integers(0, 2**32 - 1),
    )
    def test_partition_records_go_both_ways(self, flag, kind, first, count):
        raw = mbr.MbrEntryFields(flag, b"\1\2\3", kind, b"\4\5\6", first, count)
        self.assertEqual(mbr.ENTRY.read(Window(mbr.ENTRY.encode(raw))), raw)

    def test_patching_keeps_what_lies_between_the_fields(self):
        sector = bytes(range(256)) * 2
        changed = fat.COMMON.patch(sector, heads=7)
        self.assertEqual([at for at in range(512) if sector[at] != changed[at]], [26, 27])


class Unreadable(unittest.TestCase):
    def test_a_first_sector_that_cannot_be_read_is_a_finding(self):
        trace = trace_target(FaultyMemory(bytes(1 << 20), bad=((0, 512),)))
        self.assertEqual(
            (trace.failing_phase, ids(trace)), ("firmware", ["boot-record-unreadable"])
        )

    def test_a_volume_that_cannot_be_read_does_not_stop_the_rest(self):
        disk = table(entry(0x80, 0x0C, 8, 40), entry(0, 0x0C, 60, 40)).ljust(1 << 20, b"\0")
        disk = b"\xbe\xbe\x07" + disk[3:]
        trace = trace_target(FaultyMemory(disk, bad=((8 << 9, 512),)))
        self.assertEqual([volume.filesystem for volume in trace.volumes], ["unreadable", "blank"])
        self.assertEqual([one.id for one in trace.fatal], ["volume-boot-sector-unreadable"])

    def test_less_than_a_sector_is_no_disk(self):
        with self.assertRaises(InputError):
            trace_target(MemorySource(b"x"))


if __name__ == "__main__":
    unittest.main()
