"""The small promises of sources, each by itself: kinds, errors, holes, streams, overlays, what they
are known by.
"""

import ctypes
import errno
import gzip
import io
import os
import unittest
import zipfile
import zlib
from pathlib import Path
from unittest import mock

from mending.model import FileAttributes, FileChange, InputError, MendingError, Patch, RefusedError
from mending.model.limits import EXPANDED_LEAST
from mending.source import (
    FolderOverlay,
    FolderSource,
    IdentityPart,
    MemorySource,
    append_durably,
    make_file_durably,
    make_folder,
    make_folder_durably,
    open_source,
    read_file,
    read_folder,
    remove_folder,
    unpacked,
    write_durably,
)
from mending.source import devices as busy_module
from mending.source.stream import SourceStream
from tests.support import InFolder


class Opened(InFolder):
    def setUp(self):
        super().setUp()
        self.path = self.folder / "disk.img"
        self.path.write_bytes(bytes(range(256)) * 64)

    def test_an_image_says_what_it_is(self):
        with open_source(str(self.path)) as source:
            self.assertEqual(
                (source.kind, source.size, source.bytes_read, source.serial),
                ("image", 16384, 0, ""),
            )
            source.count_read(7)
            self.assertEqual(source.bytes_read, 7)
        with open_source(str(self.path), bytes_per_sector=4096) as source:
            self.assertEqual(source.bytes_per_sector, 4096)

    def test_each_error_of_the_system_has_its_sentence(self):
        rows = (
            (errno.EBUSY, RefusedError, "in use"),
            (errno.EROFS, RefusedError, "read only"),
            (errno.EACCES, InputError, "may not be opened"),
            (errno.EPERM, InputError, "may not be opened"),
            (errno.ENOENT, InputError, "does not exist"),
            (errno.EIO, InputError, "cannot be used"),
            (errno.ENXIO, InputError, "cannot be used"),
        )
        for number, kind, says in rows:
            with (
                self.subTest(errno.errorcode[number]),
                mock.patch("os.open", side_effect=OSError(number, "so it is")),
                self.assertRaises(MendingError) as caught,
            ):
                open_source(str(self.path))
            self.assertIs(type(caught.exception), kind)
            self.assertIn(says, caught.exception.says)
        for path, says in (
            (self.folder, "is a folder"),
            ("/dev/null", "neither a file"),
            ("a\0", "usable"),
        ):
            with self.assertRaisesRegex(InputError, says):
                open_source(str(path))
        (self.folder / "empty").touch()
        with self.assertRaisesRegex(InputError, "is empty"):
            open_source(str(self.folder / "empty"))

    def test_holes_are_left_out_and_a_system_without_them_gives_the_whole(self):
        with self.path.open("wb") as file:
            file.truncate(1 << 20)
            file.seek(1 << 18)
            file.write(b"x" * 4096)
        with open_source(str(self.path)) as source:
            spans = list(source.data_ranges())
            self.assertIn((1 << 18, 4096), spans)
            self.assertLess(sum(length for _, length in spans), 1 << 18)
            with mock.patch("os.lseek", side_effect=OSError(errno.EINVAL, "no")):
                self.assertEqual(list(source.data_ranges()), [(0, 1 << 20)])
            with mock.patch("os.lseek", side_effect=OSError(errno.ENXIO, "no")):
                self.assertEqual(list(source.data_ranges()), [])

    def test_short_writes_go_on_and_none_at_all_is_an_error(self):
        real = os.pwrite
        with open_source(str(self.path), for_writing=True) as source:
            with mock.patch("os.pwrite", lambda fd, data, at: real(fd, data[:3], at)):
                source.write(10, b"ferryboat")
            self.assertEqual(source.read(9, 11).data, b"\x09ferryboat\x13")
            with (
                mock.patch("os.pwrite", return_value=0),
                self.assertRaisesRegex(InputError, "takes no more"),
            ):
                source.write(0, b"x")
            for offset, data in ((-1, b"x"), (16384, b"x"), (16380, b"12345")):
                with self.assertRaises(RefusedError):
                    source.write(offset, data)
            source.write(16380, b"1234")
            source.flush()
        source.close()
        for call in (lambda: source.write(0, b"x"), source.flush):
            with self.assertRaises(InputError):
                call()

    def test_what_may_not_be_written_is_refused_before_it_is_opened(self):
        with (
            mock.patch("os.access", return_value=False),
            self.assertRaisesRegex(RefusedError, "may not be written"),
        ):
            open_source(str(self.path), for_writing=True)
        with mock.patch("fcntl.flock", side_effect=OSError(errno.ENOLCK, "no locks here")):
            open_source(str(self.path), for_writing=True).close()

    def test_serial_numbers_of_a_disk_and_of_its_parts(self):
        disk = self.folder / "devices" / "sdq"
        (disk / "sdq1").mkdir(parents=True)
        (disk / "device").mkdir()
        (disk / "wwid").write_text("naa.5ea\n")
        with mock.patch.object(
            Path, "resolve", lambda path: disk / path.name if path.name != "sdq" else disk
        ):
            self.assertEqual(busy_module.device_serial("/dev/sdq"), "naa.5ea")
            self.assertEqual(busy_module.device_serial("/dev/sdq1"), "naa.5ea")
            (disk / "device" / "serial").write_text(" F3RRY \n")
            self.assertEqual(busy_module.device_serial("/dev/sdq"), "F3RRY")
            (disk / "device" / "serial").unlink()
            (disk / "wwid").unlink()
            self.assertEqual(busy_module.device_serial("/dev/sdq"), "")
            identity = bytes(20) + b"SKERRIVANE-0042     " + bytes(472)
            with mock.patch("fcntl.ioctl", return_value=identity):
                self.assertEqual(busy_module.device_serial("/dev/sdq", 3), "SKERRIVANE-0042")
            with mock.patch("fcntl.ioctl", side_effect=OSError):
                self.assertEqual(busy_module.device_serial("/dev/sdq", 3), "")
            (disk / "device" / "vpd_pg80").write_bytes(b"\0\x80\0\x08  GANG-1trailing")
            self.assertEqual(busy_module.device_serial("/dev/sdq1"), "GANG-1")
            (disk / "device" / "vpd_pg80").write_bytes(b"\0\x83\0\x08another page")
            self.assertEqual(busy_module.device_serial("/dev/sdq"), "")

    def test_a_drive_that_speaks_scsi_is_asked_for_the_page_with_its_serial_number(self):
        def drive(answer, status=0):
            def ioctl(_fd, number, asked):
                if number != 0x2285:
                    raise OSError(errno.ENOTTY, "no such drive")
                self.assertEqual(ctypes.sizeof(asked), 88)  # of 64-bit machines
                words = ctypes.string_at(asked.command, asked.command_bytes)
                self.assertEqual(words, bytes((0x12, 1, 0x80, 0, 252, 0)))
                self.assertEqual((asked.interface, asked.direction), (0x53, -3))
                ctypes.memmove(asked.answer, answer, min(len(answer), asked.answer_room))
                asked.status = status
                return 0

            return mock.patch("fcntl.ioctl", ioctl)

        for answer, status, serial in (
            (b"\0\x80\0\x0b  PIER-0007", 0, "PIER-0007"),
            (b"\0\x80\0\xff" + b"A" * 300, 0, "A" * 248),
            (b"\0\x80\0\x0a  PIER-0007", 2, ""),  # refused
            (b"\0\x00\0\x0aanother", 0, ""),
        ):
            with drive(answer, status):
                self.assertEqual(busy_module.device_serial("/dev/none-such", 3), serial)


class Known(unittest.TestCase):
    def test_ranges_are_spread_over_what_is_not_zero_and_not_touched(self):
        data = bytearray(1 << 20)
        for at in range(0, 1 << 20, 1 << 16):
            data[at + 5000] = 1
        source = MemorySource(bytes(data))
        parts = source.identity_parts([])
        self.assertEqual(len(parts), 8)
        self.assertEqual(parts[0], IdentityPart(4096, 4096))
        self.assertEqual(parts[1].offset, (1 << 17) + 4096)
        touched = source.identity_parts([Patch(8191, b"\0", b"x", "")])
        self.assertNotIn(IdentityPart(4096, 4096), touched)
        beside = source.identity_parts([Patch(8192, b"\0", b"x", ""), Patch(4095, b"\0", b"x", "")])
        self.assertIn(IdentityPart(4096, 4096), beside)
        self.assertEqual(MemorySource(bytes(1 << 16)).identity_parts([]), [])
        self.assertEqual(MemorySource(b"x" * 100).identity_parts([]), [IdentityPart(0, 100)])

    def test_a_disk_takes_no_files_and_holds_no_folder(self):
        source = MemorySource(b"x" * 100)
        with self.assertRaises(RefusedError):
            source.current(FileChange("/etc/fstab", None, b"", ""))
        self.assertFalse(source.holds_path(Path("/")))
        self.assertEqual(list(source.data_ranges()), [(0, 100)])


class Streams(unittest.TestCase):
    def test_seeking_as_in_files(self):
        stream = io.BufferedReader(SourceStream(MemorySource(bytes(range(100)))))
        raw = SourceStream(MemorySource(bytes(range(100))))
        self.assertEqual((stream.read(3), stream.seek(10), stream.read(1)), (b"\0\1\2", 10, b"\n"))
        self.assertEqual((raw.seek(5), raw.seek(3, 1), raw.seek(-2, 1), raw.tell()), (5, 8, 6, 6))
        self.assertEqual((raw.seek(-10, 2), raw.read(4)), (90, bytes(range(90, 94))))
        self.assertEqual((raw.seek(-500, 1), raw.seek(0, 2), raw.read(4)), (0, 100, b""))

    def test_what_is_packed_comes_out_and_a_trap_ends(self):
        text = b"08:10 cast off\n" * 500
        deflated = io.BytesIO()
        with zipfile.ZipFile(deflated, "w") as archive:
            archive.writestr("a.log", text)
            archive.writestr("folder/", b"")
        rows = (
            (text, ["log"]),
            (gzip.compress(text), ["log"]),
            (zlib.compress(text), ["log"]),
            (deflated.getvalue(), ["log: a.log"]),
        )
        for data, names in rows:
            found = unpacked(MemorySource(data), "log")
            self.assertEqual([name for name, _ in found], names)
            self.assertEqual(found[0][1].read(), text)
        for plain in (b"x?" + text, b"x", b"xG" + text, b"PK of the quay\n"):
            self.assertEqual(unpacked(MemorySource(plain), "log")[0][1].read(), plain)
        long = text * 100  # more than one buffer
        self.assertEqual(unpacked(MemorySource(zlib.compress(long)), "log")[0][1].read(), long)
        at_limit = gzip.compress(bytes(EXPANDED_LEAST))
        stream = unpacked(MemorySource(at_limit), "log")[0][1]
        self.assertEqual(
            sum(len(piece) for piece in iter(lambda: stream.read(1 << 20), b"")), EXPANDED_LEAST
        )
        trap = unpacked(MemorySource(gzip.compress(bytes(EXPANDED_LEAST + 1))), "log")[0][1]
        with self.assertRaisesRegex(InputError, "grows beyond"):
            while trap.read(1 << 20):
                pass
        damaged = unpacked(MemorySource(gzip.compress(text)[:-9]), "log")[0][1]
        with self.assertRaisesRegex(InputError, "damaged"):
            damaged.read()


class Durable(InFolder):
    def test_files_and_folders_come_whole_or_not_at_all(self):
        place = self.folder / "a/b/c"
        make_folder_durably(place, {"x": b"1", "in/y": b"2"})
        self.assertEqual(((place / "x").read_bytes(), (place / "in/y").read_bytes()), (b"1", b"2"))
        with self.assertRaisesRegex(InputError, "already there"):
            make_folder_durably(place, {"x": b"3"})
        self.assertEqual([path.name for path in (self.folder / "a/b").iterdir()], ["c"])
        append_durably(place / "x", b"2")
        append_durably(place / "new", b"3")
        self.assertEqual((read_file(place / "x", 10), read_file(place / "new", 0)), (b"12", b""))
        self.assertEqual([path.name for path in read_folder(place)], ["in", "new", "x"])
        self.assertEqual(read_folder(self.folder / "none"), [])
        remove_folder(place)
        self.assertEqual(list((self.folder / "a/b").iterdir()), [])
        with self.assertRaises(InputError):
            remove_folder(place)

    def test_of_two_who_make_a_file_the_first_is_right(self):
        place = self.folder / "new/key"
        make_file_durably(place, b"first")
        make_file_durably(place, b"second")
        self.assertEqual(place.read_bytes(), b"first")
        self.assertEqual([path.name for path in place.parent.iterdir()], ["key"])

    def test_what_fails_leaves_nothing_behind_and_says_why(self):
        target = self.folder / "kept"
        write_durably(target, b"old")
        rows = (
            (errno.EACCES, "may not be used"),
            (errno.EPERM, "may not be used"),
            (errno.ENOSPC, "cannot be used"),
        )
        for number, says in rows:
            with mock.patch("os.fsync", side_effect=OSError(number, "so it is")):
                for call in (
                    lambda: write_durably(target, b"new"),
                    lambda: make_folder_durably(self.folder / "point", {"x": b"1"}),
                    lambda: append_durably(self.folder / "log", b"1"),
                    lambda name=f"deep{number}": make_folder(self.folder / name),
                ):
                    with self.assertRaisesRegex(InputError, says):
                        call()
        self.assertEqual(target.read_bytes(), b"old")
        left = {path.name for path in self.folder.iterdir()} - {"kept", "log"}
        self.assertEqual({name for name in left if not name.startswith("deep")}, set())
        for path, says in ((self.folder, "is a folder"), (self.folder / "no", "cannot be used")):
            with self.assertRaisesRegex(InputError, says):
                read_file(path, 10)


class Overlays(InFolder):
    def setUp(self):
        super().setUp()
        (self.folder / "etc").mkdir()
        (self.folder / "etc/fstab").write_bytes(b"old")
        (self.folder / "etc/fstab").chmod(0o640)
        (self.folder / "etc/link").symlink_to("fstab")
        self.tree = FolderSource(str(self.folder))
        self.addCleanup(self.tree.close)

    def test_a_tree_as_it_would_be_in_every_way(self):
        given = FileAttributes(0o4755, 0, 0, None)
        new = FolderOverlay(
            self.tree,
            [
                FileChange("/etc/fstab", b"old", b"newer", ""),
                FileChange("/usr/bin/sail", None, b"x", "", None, given),
                FileChange("/etc/gone", b"", None, ""),
            ],
        )
        self.assertEqual(
            new.listing("/etc"),
            [("fstab", 5, False, False, 0o640), ("link", 5, False, True, 0o777)],
        )
        self.assertIn(("usr", 0, True, False, 0o755), new.listing("/"))
        self.assertEqual(new.listing("/usr"), [("bin", 0, True, False, 0o755)])
        self.assertEqual(new.listing("/usr/bin/"), [("sail", 1, False, False, 0o4755)])
        self.assertEqual(new.listing("/usr/lib"), [])
        self.assertEqual((new.link("/etc/link"), new.room()), ("fstab", None))
        self.assertEqual((new.holds("/etc/fstab"), new.holds("/etc/gone")), (b"newer", None))
        again = new.change_of("/etc/fstab", b"newest", "")
        self.assertEqual((again.before, again.after), (b"newer", b"newest"))
        with self.assertRaises(RefusedError):
            new.put(again)
        with self.assertRaises(RefusedError):
            new.current(Patch(0, b"", b"", ""))
        self.assertEqual(new.bytes_read, self.tree.bytes_read)

    def test_room_is_told_of_a_mounted_volume_alone(self):
        info = os.statvfs(self.folder)
        with mock.patch.object(Path, "is_mount", return_value=True):
            room = FolderSource(str(self.folder)).room()
        self.assertAlmostEqual(room[0] / (info.f_bavail * info.f_frsize), 1.0, 1)
        self.assertGreater(room[1], 0)

    def test_what_was_opened_to_be_read_is_not_written(self):
        with self.assertRaisesRegex(RefusedError, "to be read"):
            self.tree.put(self.tree.change_of("/etc/fstab", b"new", ""))
        self.assertTrue(self.tree.holds_path(self.folder / "data"))
        self.assertFalse(self.tree.holds_path(self.folder.parent))


if __name__ == "__main__":
    unittest.main()
