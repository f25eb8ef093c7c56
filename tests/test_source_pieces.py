"""Sources that are put together of others, archives, bundles and records of reading, each by itself
and to the byte.
"""

import contextlib
import io
import os
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import msgspec

from mending.model import FileAttributes, InputError, Patch, RefusedError
from mending.model.limits import LARGEST_CHANGE
from mending.source import FolderSource, MemorySource, archive, imaging, open_source, settle_output
from mending.source import archive as bundle_module
from mending.source import devices as busy_module
from mending.source import devices as health_module
from mending.source import mounted as mounted_module
from mending.source import output as new_module
from mending.source.folder import Beneath
from mending.source.imaging import MOST_EFFORT, ByteRanges, ReadingHeader, ReadingRecord
from mending.source.mounted import BLOCK, CopyOnWrite
from mending.source.stitched import (
    BEHIND,
    FIRST_VIEW,
    FileOnDisk,
    OverlaidSource,
    StitchedSource,
    Stripes,
    ViewedSource,
)
from tests.support import InFolder

DISK = bytes(range(256)) * 16
BUNDLE = {"name": "quay.img", "bytes": 4096, "sector": 512}


class PutTogether(unittest.TestCase):
    def test_pieces_are_read_as_one(self):
        disk = MemorySource(DISK)
        source = StitchedSource(disk)
        first = source.add([Stripes(100, 100, (1000,)), Stripes(40, 10, (0, 500))])
        second = source.add([Stripes(7, 7, (7,))])
        self.assertEqual(first, BEHIND)
        self.assertGreaterEqual(second - first, 1 << 40)
        striped = b"".join(DISK[at : at + 10] for pair in ((0, 500), (10, 510)) for at in pair)
        whole = DISK[1000:1100] + striped
        for at, length in ((0, 140), (95, 20), (99, 1), (100, 40), (139, 10), (0, 500)):
            self.assertEqual(source.read(first + at, length).data, whole[at : at + length])
        self.assertEqual(source.read(second, 9).data, DISK[7:14])
        self.assertEqual(source.read(5, 9).data, DISK[5:14])
        self.assertEqual(list(source.places(first + 95, 20)), [(1095, 5), (0, 10), (500, 5)])
        self.assertEqual(list(source.places(12, 5)), [(12, 5)])

    def test_a_piece_that_the_disk_has_not_ends_what_is_read(self):
        source = StitchedSource(MemorySource(DISK))
        at = source.add([Stripes(100, 100, (len(DISK) - 30,)), Stripes(50, 50, (0,))])
        self.assertEqual(source.read(at, 150).data, DISK[-30:])

    def test_a_file_on_a_disk_has_the_bytes_of_its_pieces_and_no_more(self):
        file = FileOnDisk(MemorySource(DISK), [(300, 20), (0, 0), (10, 20)], 35)
        whole = DISK[300:320] + DISK[10:25]
        for at, length in ((0, 99), (34, 5), (35, 1), (19, 2)):
            self.assertEqual(file.read(at, length).data, whole[at : at + length])
        self.assertEqual(file.read(-1, 5).data, b"")
        self.assertEqual(list(file.data_ranges()), [(0, 35)])

    def test_views_lie_behind_each_other_and_are_sealed_run_by_run(self):
        source = ViewedSource(MemorySource(DISK))
        plain = [bytes([number]) * 20_000 for number in (1, 2)]
        sealed = []

        def seal(into, data):
            sealed.append((into, data))
            return [(into, b"before", data)]

        views = [
            source.add(lambda at, length, own=own: own[at : at + length], seal) for own in plain
        ]
        self.assertEqual(views[0], FIRST_VIEW)
        self.assertEqual(source.read(views[1] + 5, 3).data, b"\2\2\2")
        self.assertEqual(source.read(views[1] + (1 << 46), 3).data, b"")
        patches = [
            Patch(views[0] + 4100, b"", b"ab", "near"),
            Patch(views[0] + 4096 + 50, b"", b"c", "near"),
            Patch(views[0] + 8100, b"", bytes(100), "across"),
            Patch(views[0] + 8201, b"", b"f", "across"),
            Patch(views[0] + 16_384, b"", b"d", "far"),
            Patch(12, b"", b"e", "disk"),
        ]
        found = source.on_disk(patches)
        self.assertEqual([at for at, _ in sealed], [4096, 16_384])
        ones = b"\1" * 4000
        run = ones[:4] + b"ab" + ones[:44] + b"c" + ones[:3953] + bytes(100) + b"\1f"
        self.assertEqual(sealed[0][1], run)
        self.assertEqual([patch.offset for patch in found], [12, 4096, 16_384])
        only_read = source.add(lambda _, length: bytes(length))
        with self.assertRaisesRegex(RefusedError, "only read"):
            source.on_disk([Patch(only_read, b"", b"x", "")])

    def test_a_range_shows_something_else_and_all_around_it_the_disk(self):
        other = b"tide" * 16
        source = OverlaidSource(MemorySource(DISK), 100, 64, lambda at, n: other[at : at + n])
        shown = DISK[:100] + other + DISK[164:]
        for at, length in (
            (0, 100),
            (0, 50),
            (300, 50),
            (0, 101),
            (99, 2),
            (100, 64),
            (150, 30),
            (164, 5),
            (0, 400),
        ):
            self.assertEqual(source.read(at, length).data, shown[at : at + length], (at, length))


class Records(InFolder):
    def record(self):
        header = ReadingHeader(drive="/dev/none", bytes=100, sector=1, serial="")
        return ReadingRecord(header)

    def test_lines_that_are_none_of_ours_change_nothing(self):
        record = self.record()
        for row in (
            ["safe"],
            ["safe", 1, -1],
            ["lost", 1],
            ["lost", 1, 2, 3],
            ["other", 1, 2],
            "safe",
            [],
            None,
            [1],
        ):
            self.assertFalse(record.apply(row), row)
        self.assertFalse(record.apply(["failed", 1, 2, MOST_EFFORT + 1]))
        self.assertEqual(list(record.rows()), [])
        self.assertTrue(record.apply(["failed", 1, 2, MOST_EFFORT]))
        self.assertEqual(
            list(record.missing(0, 4)), [(1, 3, MOST_EFFORT + 1), (0, 1, 0), (3, 4, 0)]
        )

    def test_ranges_of_nothing_are_none_and_what_touches_is_one(self):
        ranges = ByteRanges()
        ranges.add(5, 5)
        self.assertEqual((list(ranges), ranges.total), ([], 0))
        for start, end in ((10, 20), (30, 40), (20, 30)):
            ranges.add(start, end)
        self.assertEqual((list(ranges), ranges.total), ([(10, 40)], 30))
        for start, end in ((15, 15), (0, 10), (40, 50)):
            ranges.remove(start, end)
        self.assertEqual((list(ranges), ranges.total), ([(10, 40)], 30))
        ranges.remove(20, 30)
        self.assertEqual((list(ranges), ranges.total), ([(10, 20), (30, 40)], 20))
        self.assertEqual(list(ranges.gaps(0, 50)), [(0, 10), (20, 30), (40, 50)])

    def test_zeros_are_known_from_what_only_begins_with_them(self):
        for data, zeros in ((bytes(9), True), (b"\0" * 9 + b"\1", False), (b"\0\1\0", False)):
            self.assertIs(imaging._is_zeros(data), zeros, data)

    def test_only_what_differs_is_changed(self):
        below = bytes(4 * BLOCK)
        above = CopyOnWrite(lambda at, length: below[at : at + length], len(below), len(below))
        for at, data in ((0, bytes(10)), (BLOCK, b"x"), (2 * BLOCK, b"y"), (3 * BLOCK, bytes(5))):
            above.write(at, data)
        (changed,) = above.changed()
        rest = bytes(BLOCK - 1)
        self.assertEqual(changed, (BLOCK, b"x" + rest + b"y" + rest))

    def test_a_disk_is_known_by_what_lies_behind_much_of_nothing(self):
        parts = MemorySource(bytes(3 << 20) + b"x").identity_parts([])
        self.assertEqual([part.offset for part in parts], [3 << 20])

    def test_a_header_cannot_be_changed(self):
        header = self.record().header
        with self.assertRaises(AttributeError):
            header.serial = "another"
        self.assertIn(b'"mending":"reading-record/1"', msgspec.json.encode(header))
        self.assertEqual(imaging.SUFFIX, ".reading")


class Archives(InFolder):
    def written(self, *members):
        path = self.folder / f"{len(list(self.folder.iterdir()))}.zip"
        with archive.new_archive(settle_output(path)) as made:
            for name, data in members:
                made.put(name, data)
        return path

    def test_members_are_packed_where_that_is_worth_it_and_bear_no_time(self):
        noise = os.urandom(100_000)
        path = self.written(("tides", bytes(100_000)), ("noise", noise))
        with zipfile.ZipFile(path) as packed:
            rows = {row.filename: row for row in packed.infolist()}
            self.assertEqual(rows["tides"].compress_type, zipfile.ZIP_DEFLATED)
            self.assertEqual(rows["noise"].compress_type, zipfile.ZIP_STORED)
            self.assertEqual({row.date_time for row in rows.values()}, {(1980, 1, 1, 0, 0, 0)})
        reader = archive.ArchiveReader(path)
        self.addCleanup(reader.close)
        self.assertEqual(reader.read("noise", 100_000), noise)
        with self.assertRaisesRegex(InputError, "larger than it may be"):
            reader.read("noise", 99_999)

    def test_an_index_that_no_gathering_makes_is_refused(self):
        good = {"offset": 0, "length": 512, "sha256": ""}
        most = bundle_module.RANGE_BYTES
        self.assertEqual(most, 1 << 20)
        rows = (
            ({}, True),
            ({"bytes": 0}, False),
            ({"bytes": 1 << 56}, True),
            ({"bytes": (1 << 56) + 1}, False),
            ({"sector": 513}, False),
            ({"sector": 4096}, True),
            ({"ranges": [good]}, True),
            ({"ranges": [{**good, "length": 0}]}, False),
            ({"ranges": [{**good, "offset": -1}]}, False),
            ({"ranges": [{**good, "length": 4096}]}, True),
            ({"ranges": [{**good, "length": 4097}]}, False),
            ({"ranges": [good, {**good, "offset": 511}]}, False),
            ({"bytes": 1 << 40, "ranges": [{**good, "length": most}]}, True),
            ({"bytes": 1 << 40, "ranges": [{**good, "length": most + 1}]}, False),
            ({"bytes": 1 << 40, "ranges": self.many(1024)}, True),
            ({"bytes": 1 << 40, "ranges": self.many(1025)}, False),
        )
        for change, fits in rows:
            index = {"mending": "bundle/1", "ranges": [], **BUNDLE, **change}
            path = self.written((bundle_module.INDEX, msgspec.json.encode(index)))
            with (
                contextlib.nullcontext()
                if fits
                else self.assertRaisesRegex(InputError, "no sound bundle")
            ):
                bundle_module.Bundle(path).close()

    def many(self, count):
        """Ranges of a mebibyte each."""
        return [{"offset": at << 20, "length": 1 << 20, "sha256": ""} for at in range(count)]


class Machines(InFolder):
    """What this machine tells of drives, mounts and accounts, from files that look like its own."""

    def test_what_a_drive_says_of_itself(self):
        device = self.folder / "sda" / "device"
        sensor = device / "hwmon" / "hwmon3"
        sensor.mkdir(parents=True)
        for name, says in (("state", "running\n"), ("ioerr_cnt", "0x1f\n"), ("iotmo_cnt", "x")):
            (device / name).write_text(says)
        (sensor / "temp1_input").write_text("41500\n")
        with mock.patch.object(health_module, "_CLASS_BLOCKS", self.folder):
            found = health_module.drive_health("/dev/sda")
            self.assertEqual(msgspec.structs.astuple(found), ("running", 31, None, 41.5))
            (device / "hwmon1").mkdir()
            (device / "hwmon1" / "temp1_input").write_text("30000")
            self.assertEqual(health_module.drive_health("/dev/sda").celsius, 30.0)
            (self.folder / "sda" / "sda1").mkdir()
            part = self.folder / "sda1"
            part.symlink_to(self.folder / "sda" / "sda1")
            self.assertEqual(health_module.drive_health("/dev/sda1").state, "running")

    def test_the_serial_number_stands_in_its_own_words(self):
        identity = bytearray(b"#" * 512)
        identity[20:40] = b"  TIDE-0042".ljust(20)
        with mock.patch("fcntl.ioctl", return_value=bytes(identity)):
            self.assertEqual(busy_module.device_serial("/dev/none-such", 3), "TIDE-0042")

    def test_an_image_is_asked_for_no_serial_number(self):
        path = self.folder / "disk.img"
        path.write_bytes(DISK)
        with (
            mock.patch.object(busy_module, "device_serial", return_value="ANOTHER"),
            open_source(str(path)) as source,
        ):
            self.assertEqual(source.serial, "")

    def test_mounts_are_those_of_devices(self):
        rows = "/dev/none-such1 /mnt/quay ext4 rw 0 0\ntmpfs /tmp tmpfs rw 0 0\nhalf\n"
        with mock.patch.object(Path, "read_text", return_value=rows):
            self.assertEqual(busy_module._mounts(), [("/dev/none-such1", "/mnt/quay")])

    def test_a_fault_of_a_helper_is_told_as_what_it_was(self):
        for refused, kind in ((True, RefusedError), (False, InputError)):
            told = io.BytesIO(
                msgspec.json.encode(mounted_module._Told(refused=refused, says="no.", hint="Try."))
            )
            with self.assertRaises(kind):
                mounted_module._raise_fault(told)
        mounted_module._raise_fault(io.BytesIO())

    def test_files_of_a_tree_are_held_up_to_a_limit(self):
        for length, fits in ((LARGEST_CHANGE, True), (LARGEST_CHANGE + 1, False)):
            path = self.folder / "tree" / "large"
            path.parent.mkdir(exist_ok=True)
            with path.open("wb") as file:
                file.truncate(length)
            tree = FolderSource(str(path.parent))
            self.addCleanup(tree.close)
            if fits:
                self.assertEqual(len(tree.holds("large") or b""), length)
            else:
                with self.assertRaises(InputError):
                    tree.holds("large")

    def test_who_may_make_a_name_is_told_by_the_innermost_folder_there(self):
        (self.folder / "tree" / "quay").mkdir(parents=True)
        with contextlib.closing(Beneath(str(self.folder / "tree"))) as beneath:
            for path in ("name", "quay/name", "quay/new/deeper/name"):
                self.assertTrue(beneath.may_change(path), path)

    def test_a_new_file_and_a_new_link_have_the_owner_they_are_given(self):
        attributes = FileAttributes(mode=0o640, owner=4321, group=1234, modified_ns=None)
        plain = FileAttributes(mode=0o640, owner=os.geteuid(), group=os.getegid(), modified_ns=None)
        handle = os.open(self.folder, os.O_RDONLY | os.O_DIRECTORY)
        self.addCleanup(os.close, handle)
        calls = []
        with (
            mock.patch.object(new_module.os, "chown", lambda *a, **_: calls.append(a[1:])),
            mock.patch.object(new_module.os, "fchown", lambda _, *who: calls.append(who)),
        ):
            for wanted in (plain, attributes):
                new_module.put_link(handle, "link", b"target", wanted)
                with (self.folder / "file").open("wb") as file:
                    new_module._give(file.fileno(), wanted)
        self.assertEqual(calls, [(4321, 1234)] * 2)


if __name__ == "__main__":
    unittest.main()
