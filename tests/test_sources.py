"""Bytes behind one interface: bounded reads, counting, and no writing to what is in use."""

import unittest
from unittest import mock

from mending.model import InputError, Patch, ReadError, RefusedError
from mending.source import (
    DiskOverlay,
    FaultyMemory,
    MemorySource,
    devices,
    open_source,
    write_durably,
)
from tests.support import InFolder


class Files(InFolder):
    def setUp(self):
        super().setUp()
        self.path = self.folder / "disk.img"
        self.path.write_bytes(bytes(range(256)) * 8)

    def test_reads_are_bounded_and_counted(self):
        with open_source(str(self.path)) as source:
            self.assertEqual(source.read(2040, 100).data, bytes(range(248, 256)))
            self.assertEqual((source.read(5000, 10).data, source.read(-4, 10).data), (b"", b""))
            self.assertEqual(
                (source.size, source.bytes_read, source.bytes_per_sector), (2048, 8, 512)
            )
        with self.assertRaises(InputError):
            source.read(0, 1)

    def test_it_is_read_only_unless_asked_and_never_grows(self):
        with open_source(str(self.path)) as source, self.assertRaises(InputError):
            source.write(0, b"x")
        with open_source(str(self.path), for_writing=True) as source:
            source.write(3, b"ferry")
            source.flush()
            with self.assertRaises(RefusedError):
                source.write(2046, b"too long")
        self.assertEqual(self.path.read_bytes()[:10], b"\0\1\2ferry\x08\x09")
        self.assertEqual(self.path.stat().st_size, 2048)

    def test_a_bad_sector_is_a_read_error_with_its_range(self):
        with (
            open_source(str(self.path)) as source,
            mock.patch("os.pread", side_effect=OSError(5, "Input/output error")),
            self.assertRaises(ReadError) as caught,
        ):
            source.read(512, 512)
        self.assertEqual((caught.exception.offset, caught.exception.length), (512, 512))

    def test_what_is_mounted_or_attached_is_not_opened_for_writing(self):
        for table in (
            [(str(self.path), "/mnt")],
            [("/dev/loop7", "/mnt")],
            [("/dev/loop7p1", "/mnt")],
        ):
            with (
                mock.patch.object(devices, "_mounts", return_value=table),
                mock.patch.object(devices, "_loops_over", return_value=["/dev/loop7"]),
                self.assertRaises(RefusedError) as caught,
            ):
                open_source(str(self.path), for_writing=True)
            self.assertIn("mounted at /mnt", caught.exception.says)
        with (
            mock.patch.object(devices, "_loops_over", return_value=["/dev/loop7"]),
            self.assertRaises(RefusedError) as caught,
        ):
            open_source(str(self.path), for_writing=True)
        self.assertIn("attached as /dev/loop7", caught.exception.says)
        with (
            mock.patch("os.open", side_effect=OSError(16, "busy")),
            self.assertRaises(RefusedError),
        ):
            open_source(str(self.path), for_writing=True)

    def test_a_file_attached_under_another_name_and_a_second_loop_are_noticed(self):
        """Stands in for loop devices, which an ordinary account cannot make."""
        blocks, other = self.folder / "block", self.folder / "by-another-name.img"
        other.hardlink_to(self.path)
        (blocks / "loop7/loop").mkdir(parents=True)
        (blocks / "loop7/loop/backing_file").write_text(f"{other}\n")
        with mock.patch.object(devices, "_BLOCKS", blocks):
            with self.assertRaisesRegex(RefusedError, "attached as /dev/loop7"):
                open_source(str(self.path), for_writing=True)
            with self.assertRaisesRegex(RefusedError, "attached as /dev/loop7"):
                (blocks / "loop8/loop").mkdir(parents=True)
                (blocks / "loop8/loop/backing_file").write_text(str(self.path))
                devices.refuse_if_busy("/dev/loop8p1", True)
            mounts = [("/dev/loop7p2", "/mnt/ferry")]
            with (
                mock.patch.object(devices, "_mounts", return_value=mounts),
                self.assertRaisesRegex(RefusedError, "mounted at /mnt/ferry"),
            ):
                devices.refuse_if_busy("/dev/loop8", True)

    def test_a_durable_write_leaves_the_old_file_or_the_new_one(self):
        with (
            mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")),
            self.assertRaises(InputError),
        ):
            write_durably(self.path, b"new")
        self.assertEqual(len(self.path.read_bytes()), 2048)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["disk.img"])
        write_durably(self.path, b"new")
        self.assertEqual(self.path.read_bytes(), b"new")


class Memory(unittest.TestCase):
    def test_a_patched_source_shows_the_patches_and_writes_nothing(self):
        base = MemorySource(bytes(100))
        patched = DiskOverlay(
            base, [Patch(10, bytes(5), b"ABCDE", "one"), Patch(98, b"\0\0", b"YZ", "two")]
        )
        self.assertEqual(patched.read(8, 5).data, b"\0\0ABC")
        self.assertEqual(
            patched.read(12, 200).data[:4] + patched.read(12, 200).data[-2:], b"CDE\0YZ"
        )
        with self.assertRaises(RefusedError):
            patched.write(0, b"x")
        self.assertEqual(bytes(base.data), bytes(100))

    def test_a_faulty_memory_fails_as_told(self):
        source = FaultyMemory(bytes(1000), bad=((512, 10),))
        self.assertEqual(len(source.read(0, 512)), 512)
        with self.assertRaises(ReadError):
            source.read(500, 20)


class Patched(unittest.TestCase):
    def test_holes_below_stay_holes_but_for_the_patches(self):
        class Sparse(MemorySource):
            def data_ranges(self):
                yield from ((0, 4096), (40960, 8192))

        patches = [
            Patch(at, b"", bytes(length), "")
            for at, length in ((90, 30), (8190, 5), (49000, 500), (99990, 10))
        ]
        found = list(DiskOverlay(Sparse(bytes(100_000)), patches).data_ranges())
        self.assertEqual(found, [(0, 12288), (40960, 12288), (98304, 1696)])


if __name__ == "__main__":
    unittest.main()
