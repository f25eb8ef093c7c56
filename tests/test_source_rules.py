"""Rules of sources and targets on their own: bounds of writes, names that leave a tree, locks,
rights of new files, and what counts as the same.
"""

import contextlib
import os
import stat
import unittest
from types import SimpleNamespace
from unittest import mock

from mending.model import FileAttributes, FileChange, FilesystemKind, InputError, RefusedError
from mending.source import MemorySource, TargetKind, devices, image, mounted, open_source
from mending.source.base import as_disk, as_tree
from mending.source.folder import Beneath, FolderSource, open_folder_source
from mending.source.image import FaultyMemory, PowerCutError
from mending.source.imaging import ByteRanges, ReadingHeader, open_image, record_path
from mending.source.output import make_file_durably, write_durably
from mending.source.stream import SourceStream
from mending.source.targets import _PIECE, FolderOverlay
from tests.support import InFolder


class Bounds(unittest.TestCase):
    def test_a_write_begins_at_the_first_byte_and_ends_at_the_last_or_is_refused(self):
        source = MemorySource(bytes(1024))
        source.write(0, b"first")
        source.write(1020, b"last")
        self.assertEqual((source.read(0, 5).data, source.read(1020, 4).data), (b"first", b"last"))
        for offset in (-1, 1021):
            with self.assertRaises(InputError):
                source.write(offset, b"long")

    def test_the_power_goes_behind_the_last_byte_that_it_lasted_for(self):
        source = FaultyMemory(bytes(64), cut_after=8)
        source.write(0, b"12345678")
        with self.assertRaises(PowerCutError):
            source.write(8, b"9")
        self.assertEqual(source.data[:10], b"12345678\0\0")

    def test_a_stream_is_sought_from_its_beginning(self):
        stream = SourceStream(MemorySource(bytes(range(256)) * 4))
        for _ in range(2):
            self.assertEqual(stream.seek(7), 7)
        self.assertEqual(stream.read(1), b"\7")
        self.assertEqual((stream.seek(2, os.SEEK_CUR), stream.seek(-4, os.SEEK_END)), (10, 1020))

    def test_a_disk_is_known_by_what_lies_behind_zeros_within_one_range(self):
        data = bytearray(4 * _PIECE)
        data[3 * _PIECE + 5] = 1
        (part,) = MemorySource(bytes(data)).identity_parts([])
        self.assertLessEqual(part.offset, 3 * _PIECE + 5)
        self.assertGreater(part.offset + part.length, 3 * _PIECE + 5)

    def test_pieces_of_nothing_are_passed_over(self):
        data = bytearray(8 * _PIECE)
        data[2 * _PIECE] = data[5 * _PIECE + 700] = 1
        source = MemorySource(bytes(data))
        found = list(source._filled_from([(0, len(data))], 0))
        self.assertEqual((found[0] // _PIECE, found[-1] // _PIECE), (2, 5))
        found = list(source._filled_from([(0, 100), (100, len(data) - 100)], 3 * _PIECE))
        self.assertEqual({start // _PIECE for start in found}, {5})


class Kinds(unittest.TestCase):
    def test_a_folder_is_a_tree_and_everything_else_a_disk(self):
        for kind in TargetKind:
            target = SimpleNamespace(kind=kind, path="here")
            if kind is TargetKind.FOLDER:
                self.assertIs(as_tree(target), target)
                with self.assertRaises(ValueError):
                    as_disk(target)
            else:
                self.assertIsNone(as_tree(target))
                self.assertIs(as_disk(target), target)

    def test_another_mount_is_told_by_its_number_where_devices_differ(self):
        for numbers, mounts, other in (
            ((1, 1), ("20", "30"), False),
            ((1, 2), ("20", "20"), False),  # a part of one file system
            ((1, 2), ("20", "30"), True),
            ((1, 2), ("", ""), True),  # not to be told: rather another
        ):
            with (
                self.subTest(devices=numbers, mounts=mounts),
                mock.patch.object(
                    devices.os, "fstat", lambda fd, given=numbers: SimpleNamespace(st_dev=given[fd])
                ),
                mock.patch.object(devices, "_mount_number", lambda fd, given=mounts: given[fd]),
            ):
                self.assertEqual(devices.is_other_mount(0, 1), other)

    def test_a_part_of_a_volume_is_mounted_by_the_kernel_only(self):
        usual = mounted.drivers_of(FilesystemKind.BTRFS)
        (named,) = mounted.drivers_of(FilesystemKind.BTRFS, subvolume="home")
        self.assertIn("subvol=/home", " ".join(named))
        self.assertNotIn("subvol", " ".join(word for words in usual for word in words))
        self.assertEqual(mounted.drivers_of(FilesystemKind.BTRFS, subvolume="a,b"), ())
        self.assertEqual(
            mounted.drivers_of(FilesystemKind.EXT, subvolume="home"),
            mounted.drivers_of(FilesystemKind.EXT),
        )


class Files(InFolder):
    def setUp(self):
        super().setUp()
        self.top = self.folder / "tree"
        (self.top / "etc").mkdir(parents=True)
        self.outside = self.folder / "outside"
        self.outside.write_bytes(b"not ours")

    def test_no_name_leaves_the_tree(self):
        with contextlib.closing(Beneath(str(self.top))) as beneath:
            for path in ("../outside", "etc/../../outside", "etc/a\0b", ".."):
                with self.subTest(path), self.assertRaises(OSError):
                    beneath.status(path)

    def test_a_file_is_written_in_its_place_and_through_no_link(self):
        (self.top / "etc/fstab").write_bytes(b"a long old line")
        (self.top / "etc/link").symlink_to(self.outside)
        os.mkfifo(self.top / "etc/pipe")
        number = (self.top / "etc/fstab").stat().st_ino
        with contextlib.closing(Beneath(str(self.top))) as beneath:
            beneath.rewrite("etc/fstab", b"new", 0o640)
            with self.assertRaises(OSError):
                beneath.rewrite("etc/link", b"overwritten", None)
        info = (self.top / "etc/fstab").stat()
        self.assertEqual((self.top / "etc/fstab").read_bytes(), b"new")
        self.assertEqual((info.st_ino, stat.S_IMODE(info.st_mode)), (number, 0o640))
        self.assertEqual(self.outside.read_bytes(), b"not ours")

    def test_a_link_that_is_put_there_tells_its_new_target(self):
        tree = FolderSource(str(self.top))
        self.addCleanup(tree.close)
        link = FileAttributes(0o777, 0, 0, None, is_link=True)
        new = FolderOverlay(tree, [FileChange("/etc/mtab", None, b"/proc/mounts", "", None, link)])
        self.assertEqual(new.link("/etc/mtab"), "/proc/mounts")
        self.assertEqual(new.read("/etc/mtab", 5), b"/proc")

    def test_what_is_kept_here_is_readable_by_its_owner_alone(self):
        old = os.umask(0)
        self.addCleanup(os.umask, old)
        home = self.folder / "new" / "newer"
        make_file_durably(home / "made", b"x")
        write_durably(home / "written", b"y")
        for path, mode in (
            (home / "made", 0o600),
            (home / "written", 0o600),
            (home, 0o700),
            (home.parent, 0o700),
        ):
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), mode, path)

    def test_an_image_of_a_drive_and_its_record_are_readable_by_their_owner_alone(self):
        old = os.umask(0)
        self.addCleanup(os.umask, old)
        header = ReadingHeader(drive="d", bytes=4096, sector=512, serial="s")
        path = self.folder / "copy"
        growing = open_image(str(path), header)
        growing.keep(0, b"kept")
        growing.close()
        for each in (path, record_path(str(path))):
            self.assertEqual(stat.S_IMODE(each.stat().st_mode), 0o600, each)

    def test_a_tree_is_opened_to_be_read_unless_it_is_said_otherwise(self):
        for how in ({}, {"for_writing": False}):
            tree = open_folder_source(str(self.top), **how)
            self.addCleanup(tree.close)
            with self.assertRaisesRegex(RefusedError, "to be read"):
                tree.put(tree.change_of("/etc/new", b"new", ""))

    def test_a_helper_that_ended_is_asked_about_once(self):
        place = self.folder / "told"
        with place.open("wb") as told, mounted._Child(lambda: None, told, "a volume") as child:
            child.wait()
            self.assertTrue(child.has_ended())
            self.assertTrue(child.has_ended())

    def test_two_do_not_write_to_one_image_at_once(self):
        path = self.folder / "disk"
        path.write_bytes(bytes(4096))
        with open_source(str(path), for_writing=True):
            with self.assertRaisesRegex(RefusedError, "under way"):
                open_source(str(path), for_writing=True)
            open_source(str(path)).close()
        open_source(str(path), for_writing=True).close()

    def test_of_a_copy_that_was_begun_the_rest_counts_as_never_read(self):
        path = self.folder / "copy"
        path.write_bytes(bytes(4096))
        safe = ByteRanges()
        safe.add(0, 1024)
        with mock.patch.object(image, "load_record", lambda _path: SimpleNamespace(safe=safe)):
            source = open_source(str(path))
        self.addCleanup(source.close)
        self.assertEqual(list(source.never_read.gaps(0, 4096)), [(0, 1024)])
        whole = open_source(str(path))
        self.addCleanup(whole.close)
        self.assertIsNone(whole.never_read)


if __name__ == "__main__":
    unittest.main()
