"""Lost tables: volumes found by real programs' own structures, told from leftovers, and put back
into a table.
"""

import struct
import unittest

from mending.disk.scan import search
from mending.repair.boot import own_code
from mending.source import FaultyMemory, MemorySource, open_source
from mending.workshop import MARKER, bios_disk, uefi_disk
from tests.machine import OVMF, QEMU, starts
from tests.support import SECTOR, START, InFolder, ids, needs, patch, sha, tool, trace_file

MAKERS = {
    "fat16": ("mkfs.fat", "-F", "16"),
    "fat32": ("mkfs.fat", "-F", "32", "-s", "1"),
    "exfat": ("mkfs.exfat",),
    "ntfs": ("mkfs.ntfs", "-q", "-F", "-f"),
    "ext": ("mke2fs", "-q", "-t", "ext4"),
    "swap": ("mkswap",),
    "xfs": ("mkfs.xfs", "-q"),
    "btrfs": ("mkfs.btrfs", "-q"),
}
SIZES = {"xfs": 310, "btrfs": 120}


class Candidate(InFolder):
    def disk_of(self, kinds):
        """One disk with a volume of each kind behind the other, and nothing that lists them."""
        path, at, places = self.folder / "lost.img", START * SECTOR, {}
        with path.open("wb") as disk:
            for kind in kinds:
                volume = self.folder / kind
                with volume.open("wb") as file:
                    file.truncate(SIZES.get(kind, 40) << 20)
                tool(*MAKERS[kind], volume)
                disk.seek(at)
                disk.write(volume.read_bytes())
                places[kind] = (at, volume.stat().st_size)
                at += volume.stat().st_size + (1 << 20)
            disk.truncate(at)
        return path, places

    def found(self, path):
        with open_source(str(path)) as source:
            return {
                candidate.filesystem: (candidate.offset, candidate.bytes)
                for candidate in search(source)
            }

    @needs("mkfs.fat", "mkfs.exfat", "mkfs.ntfs", "mke2fs", "mkswap", "mkfs.xfs", "mkfs.btrfs")
    def test_every_kind_is_found_where_it_is_with_its_length(self):
        path, places = self.disk_of(MAKERS)
        before, found = sha(path), self.found(path)
        self.assertEqual(
            {kind: at for kind, (at, _) in found.items()},
            {kind: at for kind, (at, _) in places.items()},
        )
        for kind, (_, length) in places.items():
            self.assertLessEqual(found[kind][1], length)
            self.assertGreater(found[kind][1], 0.98 * length)
        self.assertEqual(sha(path), before)

    @needs("mkfs.fat", "mkfs.exfat", "mkfs.ntfs", "mke2fs")
    def test_with_the_first_copy_gone_the_second_one_tells(self):
        kinds = ("fat32", "exfat", "ntfs", "ext")
        path, places = self.disk_of(kinds)
        for kind in kinds:
            patch(path, places[kind][0], bytes(2048 if kind == "ext" else SECTOR))
        self.assertEqual(
            {kind: at for kind, (at, _) in self.found(path).items()},
            {kind: places[kind][0] for kind in kinds},
        )

    @needs("mkfs.fat", "mke2fs")
    def test_leftovers_inside_a_newer_volume_are_not_believed(self):
        path, places = self.disk_of(("fat32",))
        old = self.folder / "old"
        old.write_bytes(bytes(20 << 20))
        tool(*MAKERS["ext"], old)
        patch(path, places["fat32"][0] + (8 << 20), old.read_bytes()[: 2 << 20])
        self.assertEqual(list(self.found(path)), ["fat32"])

    def test_a_sparse_or_damaged_disk_is_searched_all_the_same(self):
        path = self.folder / "holes.img"
        uefi_disk().save(path)
        with open_source(str(path)) as source:
            self.assertEqual([candidate.label for candidate in search(source)], ["EFI", "TICKETS"])
            self.assertLess(source.bytes_read, 8 << 20)
        data = path.read_bytes()
        self.assertEqual(len(search(FaultyMemory(data, bad=((80 << 20, 512),)))), 2)
        self.assertEqual(search(MemorySource(bytes(3 << 20))), [])


class Tables(InFolder):
    def lose(self, draft, *ranges):
        path = self.folder / "lost.img"
        draft.save(path)
        whole = path.read_bytes()
        for offset, length in ranges:
            patch(path, offset, bytes(length))
        return path, whole

    @needs("sfdisk", QEMU)
    def test_a_lost_table_of_a_bios_disk_is_rebuilt_and_the_disk_starts(self):
        path, whole = self.lose(bios_disk(own_code()), (446, 66))
        broken = sha(path)
        self.assertEqual(trace_file(path).fatal[0].repairs, ("partition-table",))
        self.json_here("mend", path, "--all", "--yes")
        self.assertEqual(path.read_bytes(), whole)
        self.assertTrue(starts(path, "bios", MARKER))
        self.run_here("undo", path)
        self.assertEqual(sha(path), broken)

    @needs("sfdisk", "sgdisk", QEMU, OVMF)
    def test_a_lost_gpt_is_rebuilt_and_the_disk_starts(self):
        last = (100 << 20) - 33 * SECTOR
        for name, ranges in {
            "headers": ((SECTOR, SECTOR), ((100 << 20) - SECTOR, SECTOR)),
            "everything": ((0, 34 * SECTOR), (last, 33 * SECTOR)),
        }.items():
            with self.subTest(name):
                path, _ = self.lose(uefi_disk(), *ranges)
                self.assertEqual(trace_file(path).failing_phase, "firmware")
                done = self.json_here("mend", path, "--all", "--yes")
                self.assertEqual(done["failing_after"], None)
                self.assertIn("No problems found", tool("sgdisk", "--verify", path))
                self.assertIn(
                    "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", tool("sfdisk", "--dump", path)
                )
                self.assertTrue(starts(path, "uefi", MARKER))

    def test_it_is_refused_with_a_reason(self):
        path, _ = self.lose(bios_disk(own_code()))
        self.assertIn(
            "nothing to write", self.run_here("mend", path, "partition-table", "--yes", expect=4)
        )
        path.write_bytes(bytes(4 << 20))
        self.assertIn(
            "No volume was found", self.run_here("mend", path, "partition-table", "--yes", expect=4)
        )
        self.assertEqual(ids(trace_file(path)), ["boot-signature-missing"])

    @needs("sfdisk", "sgdisk")
    def test_single_entries_that_are_lost_or_wrong_are_put_right(self):
        def moved(number, at, value):
            return lambda path: patch(
                path, 446 + 16 * (number - 1) + at, value.to_bytes(4, "little")
            )

        def empty(number):
            return lambda path: patch(path, 446 + 16 * (number - 1), bytes(16))

        for name, spoil in {
            "first gone": empty(1),
            "second gone": empty(2),
            "second is short": moved(2, 12, 5000),
            "first begins too late": moved(1, 8, 2056),
            "too early": moved(1, 8, 1948),
            "both wrong": lambda path: (moved(1, 8, 2056)(path), empty(2)(path)),
        }.items():
            with self.subTest(name):
                path, whole = self.lose(bios_disk(own_code()))
                spoil(path)
                self.json_here("mend", path, "partition-table", "--yes")
                self.assertTrue(path.read_bytes() == whole)
        for words in (
            ("-d", "1"),
            ("-d", "2"),
            ("-d", "1", "-a", "1", "-n", "1:2056:83967", "-t", "1:ef00"),
        ):
            with self.subTest(words):
                path, _ = self.lose(uefi_disk())
                tool("sgdisk", *words, path)
                broken = sha(path)
                done = self.json_here("mend", path, "partition-table", "--yes")
                self.assertEqual(
                    (done["failing_after"], len(done["map_after"]["stretches"])), (None, 5)
                )
                starts = [
                    stretch["start"]
                    for stretch in done["map_after"]["stretches"]
                    if stretch["kind"] == "volume"
                ]
                self.assertEqual(starts, [2048, 83968])
                self.assertIn("No problems found", tool("sgdisk", "--verify", path))
                self.run_here("undo", path)
                self.assertEqual(sha(path), broken)

    def test_entries_that_hold_something_are_never_moved_or_shortened(self):
        path, _ = self.lose(bios_disk(own_code()))
        patch(
            path, 478, struct.pack("<B3xB3xII", 0, 0x83, 90_000, 200)
        )  # inside the second volume, nothing there
        before = sha(path)
        self.assertIn(
            "nothing to write", self.run_here("mend", path, "partition-table", "--yes", expect=4)
        )
        for number in (3, 4):
            patch(
                path,
                446 + 16 * (number - 1),
                struct.pack("<B3xB3xII", 0, 0x83, 170_000 + number * 900, 200),
            )
        patch(path, 462 + 8, struct.pack("<II", 180_000, 200))
        patch(path, 180_000 * SECTOR, b"ferry")
        self.assertIn(
            "no free entry", self.run_here("mend", path, "partition-table", "--yes", expect=4)
        )
        self.assertNotEqual(sha(path), before)

    def test_unlisted_volumes_are_told_from_listed_ones(self):
        path, _ = self.lose(bios_disk(own_code()), (462, 16))
        found = self.json_here("search", path)["found"]
        self.assertEqual(
            [(candidate["start"], candidate["listed"]) for candidate in found],
            [(2048, 1), (83968, None)],
        )
        self.assertIn("not listed", self.run_here("search", path))


if __name__ == "__main__":
    unittest.main()
