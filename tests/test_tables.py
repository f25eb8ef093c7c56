"""Tables of BIOS disks beyond the four entries: logical volumes, and the active flag put right."""

import struct
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.disk.layout import walk_ebr_chain
from mending.formats import mbr
from mending.model import Window
from mending.model.limits import EBR_TABLES
from mending.source import MemorySource
from tests.support import (
    MBR_FILES,
    SECTOR,
    START,
    InFolder,
    ids,
    needs,
    patch,
    sha,
    tool,
    trace_file,
)

EXTENDED = (0, 5, 100, 5000)


def entry(flag, kind, first, count):
    return struct.pack("<B3xB3xII", flag, kind, first, count)


def table(*entries):
    return bytes(446) + b"".join(entry(*one) for one in entries).ljust(64, b"\0") + b"\x55\xaa"


def chain(tables):
    """A disk with an extended entry at sector 100 and small tables at these sectors."""
    disk = bytearray(6000 * SECTOR)
    disk[:512] = table(EXTENDED)
    for lba, entries in tables.items():
        disk[lba * SECTOR : lba * SECTOR + 512] = table(*entries)
    extended = mbr.read(Window(bytes(disk[:512]))).record.entries[0]
    return walk_ebr_chain(MemorySource(bytes(disk)), extended)


class Logical(InFolder):
    def test_the_chain_is_followed_with_both_ways_of_counting(self):
        found = chain({100: [(0, 0x83, 10, 500), (0, 5, 1000, 600)], 1100: [(0, 7, 20, 300)]})
        self.assertEqual(
            [(entry.number, entry.first_lba, entry.sectors) for entry in found.entries],
            [(5, 110, 500), (6, 1120, 300)],
        )
        self.assertEqual(found.problems, ())

    def test_damage_of_the_chain_is_said_and_ends_it(self):
        for code, tables in {
            "logical-loop": {100: [(0, 7, 1, 9), (0, 5, 0, 9)]},
            "logical-outside": {100: [(0, 7, 1, 9), (0, 5, 5500, 9)]},
            "logical-missing": {100: [(0, 7, 1, 9), (0, 5, 50, 9)]},
            "logical-past-end": {100: [(0, 7, 1, 9000)]},
            "logical-overlap": {100: [(0, 7, 1, 900), (0, 5, 300, 9)], 400: [(0, 7, 1, 9)]},
        }.items():
            self.assertEqual([problem.code for problem in chain(tables).problems], [code])
        endless = {100 + number: [(0, 7, 1, 1), (0, 5, number + 1, 1)] for number in range(300)}
        found = chain(endless)
        self.assertEqual(
            (len(found.entries), found.problems[0].code), (EBR_TABLES, "logical-too-many")
        )

    @given(
        st.dictionaries(
            st.integers(100, 110),
            st.lists(st.tuples(*[st.integers(0, 200)] * 4), max_size=4),
            max_size=6,
        )
    )
    @settings(max_examples=100)
    def test_any_chain_ends(self, tables):
        self.assertLessEqual(len(chain(tables).entries), 4 * EBR_TABLES)

    @needs("sfdisk", "mkfs.fat")
    def test_logical_volumes_of_a_real_disk_are_listed_with_their_file_systems(self):
        lines = ["x1 : start=2048,size=20000,type=83", "x2 : start=24576,size=100000,type=5"]
        lines += ["x5 : start=26624,size=30000,type=c", "x6 : start=60000,size=20000,type=c"]
        path = self.partitioned("logical", *lines)
        starts = [
            int(row.split("start=")[1].split(",")[0])
            for row in tool("sfdisk", "--dump", path).splitlines()
            if "start=" in row
        ]
        for start, name in zip(starts[2:], ("ONE", "TWO"), strict=True):
            tool("mkfs.fat", "-n", name, "-h", start, "--offset", start, path, 9000)
        volumes = trace_file(path).volumes
        self.assertEqual([volume.number for volume in volumes], [1, 2, 5, 6])
        self.assertEqual([volume.start for volume in volumes], starts)
        self.assertEqual(
            [(volume.filesystem, volume.label) for volume in volumes[2:]],
            [("fat16", "ONE"), ("fat16", "TWO")],
        )
        before = [
            finding.id for finding in trace_file(path).findings if finding.id.startswith("table-")
        ]
        patch(path, starts[3] * SECTOR - 2048 * SECTOR + 510, b"\0\0")
        after = [
            finding.id for finding in trace_file(path).findings if finding.id.startswith("table-")
        ]
        self.assertEqual((before, after), ([], ["table-logical-missing"]))


class ActiveFlag(InFolder):
    @needs("sfdisk", "mkfs.fat", "syslinux", MBR_FILES / "mbr.bin")
    def test_the_one_volume_that_can_be_started_is_marked_and_undo_takes_it_back(self):
        path = self.fat_started_by_syslinux()
        patch(path, 462, entry(0, 0x83, 130000, 500))
        for flags in ((0, 0), (0x80, 0x80), (0, 0x80)):
            patch(path, 446, bytes([flags[0]]))
            patch(path, 462, bytes([flags[1]]))
            broken = sha(path)
            self.assertEqual(trace_file(path).failing_phase, "boot-record")
            done = self.json_here("mend", path, "active-flag", "--yes")
            self.assertEqual(
                {(write["offset"], write["length"]) for write in done["writes"]}
                - {(446, 1), (462, 1)},
                set(),
            )
            self.assertEqual(ids(trace_file(path), "fatal"), [])
            self.assertIn("bootable", tool("sfdisk", "--dump", path).splitlines()[-2])
            self.run_here("undo", path)
            self.assertEqual(sha(path), broken)

    @needs("sfdisk", "mkfs.fat", "syslinux", MBR_FILES / "mbr.bin", "sgdisk")
    def test_it_never_guesses(self):
        path = self.fat_started_by_syslinux()
        self.assertIn(
            "nothing to write", self.run_here("mend", path, "active-flag", "--yes", expect=4)
        )
        whole = path.read_bytes()
        path.write_bytes(whole + whole[START * SECTOR :])
        patch(path, 462, entry(0x80, 0x0E, len(whole) // SECTOR, len(whole) // SECTOR - START))
        self.assertIn(
            "cannot be told", self.run_here("mend", path, "active-flag", "--yes", expect=4)
        )
        self.assertEqual(trace_file(path).fatal[0].repairs, ())
        patch(path, START * SECTOR, bytes(SECTOR))
        patch(path, len(whole), bytes(SECTOR))
        self.assertIn("No volume", self.run_here("mend", path, "active-flag", "--yes", expect=4))
        path = self.folder / "gpt.img"
        path.write_bytes(bytes(64 << 20))
        tool("sgdisk", "-n", "1:2048:40000", path)
        self.assertIn("GPT", self.run_here("mend", path, "active-flag", "--yes", expect=4))

    @needs("sfdisk", "mkfs.fat", "syslinux", MBR_FILES / "mbr.bin")
    def test_repairs_that_need_each_other_are_done_in_the_order_that_works(self):
        path = self.fat_started_by_syslinux()
        patch(path, 0, bytes(447))
        done = self.json_here("mend", path, "--all", "--yes")
        self.assertEqual(
            ([step["repair"] for step in done["steps"]], done["failing_after"]),
            (["active-flag", "boot-code"], None),
        )


if __name__ == "__main__":
    unittest.main()
