"""Btrfs volumes by our own reader: what real kernels wrote, what the real program fills, and
systems whose root is a subvolume.
"""

import hashlib
import unittest
import uuid
from random import Random

from hypothesis import given
from hypothesis import strategies as st

from mending.disk.btrfs import DEFAULT, BtrfsReader
from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import survey
from mending.formats import btrfs
from mending.model import ByteOffset, InputError
from mending.source import MemorySource, open_source
from tests.root_disks import FIRST, root_disk, system_tree
from tests.samples import needs_samples, read_samples
from tests.support import SECTOR, InFolder, ids, needs, patch, sha, tool, trace_file
from tests.test_ext import in_tree, make_tree, walked
from tests.test_xfs import changed

MIB, MUTATIONS = 1 << 20, 150
DATA = uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4")
ROOT = "0f0e1d2c-3b4a-4958-8677-695a4b3c2d1e"
PACKED = {
    "zlib.txt": b"zlib" * (5 * MIB) + b"\n",
    "lzo.txt": b"lzo" * (5 * MIB) + b"\n",
    "zstd.txt": b"zstd" * (5 * MIB) + b"\n",
    "zlib_inline.txt": b"zlib" * 256 + b"\n",
    "lzo_inline.txt": b"lzo" * 256 + b"\n",
    "zstd_inline.txt": b"zstd" * 256 + b"\n",
}
LOREM = "ac9db55e11e804c58cb5ac8baded462cd3e7a570e4f3c980298ef2b417467b1d"


@needs_samples("dissect.btrfs")
class WrittenByKernels(unittest.TestCase):
    def opened(self, name, top=""):
        found = dict(read_samples("dissect.btrfs", f"_data/btrfs-{name}.bin.gz"))
        return BtrfsReader(MemorySource(*found.values()), ByteOffset(0), top)

    def test_packed_files_of_every_kind(self):
        reader = self.opened("compression")
        for name, data in PACKED.items():
            with self.subTest(name):
                self.assertEqual(reader.read(name, 3 * MIB), data[: 3 * MIB])
                self.assertTrue(reader.is_packed(name))
                self.assertIsNone(reader.extents(name))
        lorem = reader.read("zstd_lorem_ipsum.txt", MIB)
        self.assertEqual(hashlib.sha256(lorem).hexdigest(), LOREM)

    def test_folders_links_holes_and_subvolumes(self):
        reader = self.opened("subvolume")
        self.assertEqual(reader.read("path/to/a/file.txt", 99), b"file in dir\n")
        self.assertEqual(reader.link("link.txt"), "path/to/a/file.txt")
        self.assertEqual(reader.read("subvol/small.txt", 99), b"file in subvolume\n")
        self.assertEqual(reader.tops(), ["subvol", ""])
        inside = self.opened("subvolume", "subvol")
        self.assertEqual(inside.read("small.txt", 99), b"file in subvolume\n")
        sparse = self.opened("sparse")
        self.assertEqual(set(sparse.read("sparse_all", MIB)), {0})
        self.assertEqual(set(sparse.read("sparse_hole", 1 << 18)), {0, 1})

    def test_the_default_subvolume_is_told(self):
        self.assertEqual(self.opened("subvolume-custom-default").tops()[0], DEFAULT)
        names = [row[0] for row in self.opened("subvolume-custom-default", DEFAULT).listing("/")]
        self.assertIn("cross-volume-link.txt", names)

    def test_a_volume_on_several_devices_is_not_read(self):
        for name, data in read_samples("dissect.btrfs", "_data/btrfs-raid*-1.bin.gz"):
            source = MemorySource(data)
            with self.subTest(name), self.assertRaisesRegex(FilesUnavailableError, "devices"):
                open_files(source, survey(source).volumes[0])


class Packed(unittest.TestCase):
    @given(st.binary(max_size=300))
    def test_any_bytes_unpack_or_are_refused(self, data):
        for unpack in (
            lambda: btrfs.unpack_lzo(data, 4096),
            lambda: btrfs.unpack_lzo_segments(data, 9000, 4096),
        ):
            try:
                self.assertLessEqual(len(unpack()), 9000)
            except InputError as error:
                self.assertIn("segment", error.says)


@needs("mkfs.btrfs")
class WrittenByTheRealProgram(InFolder):
    def made(self, *options, tree=None):
        path = self.folder / "volume"
        if tree is None:
            tree = self.folder / "tree"
            if not tree.exists():
                tree.mkdir()
                make_tree(tree, 400)
        path.unlink(missing_ok=True)
        with path.open("wb") as file:
            file.truncate(160 * MIB)
        tool("mkfs.btrfs", "-q", "-f", "-U", ROOT, "--rootdir", tree, *options, path)
        return path

    def test_it_reads_as_it_was_written(self):
        for options in ((), ("-n", "65536"), ("--csum", "sha256"), ("--csum", "blake2")):
            with self.subTest(options), open_source(str(self.made(*options))) as source:
                reader = BtrfsReader(source, ByteOffset(0))
                self.assertEqual(walked(reader), in_tree(self.folder / "tree"))

    @needs("grub-fstest")
    def test_another_reader_reads_the_same(self):
        path = self.made()
        theirs = self.folder / "theirs"
        tool("grub-fstest", path, "cp", "(loop0)/a/b/c/deep", theirs)
        with open_source(str(path)) as source:
            reader = BtrfsReader(source, ByteOffset(0))
            self.assertEqual(reader.read("/a/b/c/deep", 1 << 21), theirs.read_bytes())

    def test_any_damage_ends_in_our_own_errors(self):
        random, read = Random(16), 0
        with open_source(str(self.made())) as source:
            volume = BtrfsReader(source, ByteOffset(0))._volume
            places = [65_536, volume.place(volume.block.root), volume.place(volume.root_of(5))]
            for _ in range(MUTATIONS):
                patches = [
                    (
                        random.choice(places) + random.randrange(600),
                        bytes([random.choice((0, 255, random.randrange(256)))]),
                    )
                    for _ in range(random.choice((1, 2, 8)))
                ]
                try:
                    reader = BtrfsReader(changed(source, *patches), ByteOffset(0))
                    read += len(walked(reader, most=60))
                except InputError:
                    continue
        self.assertGreater(read, 0)

    def disk(self, words):
        tree = system_tree(self.folder, "btrfs", ROOT)
        return root_disk(self.folder, self.made(tree=tree), f"root=UUID={ROOT} {words}")

    def test_a_root_is_read_to_the_session_and_a_subvolume_that_is_not_there_is_fatal(self):
        trace = trace_file(self.disk("ro"))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        self.assertEqual([system.title for system in trace.systems], ["Ferry Linux 3"])
        lost = trace_file(self.disk("ro rootflags=subvol=@"))
        self.assertEqual(
            (ids(lost, "fatal"), lost.failing_phase), (["root-subvolume-missing"], "kernel")
        )
        self.assertIn("subvolume @", lost.fatal[0].says)
        disk = self.disk("ro")
        sound = sha(disk)
        patch(disk, FIRST * SECTOR + 65_536, bytes(4096))
        self.assertEqual(ids(trace_file(disk), "fatal"), ["root-superblock-lost"])
        self.run_here("mend", disk, "superblock", "--yes")
        self.assertEqual(sha(disk), sound)  # both are written together
        with (self.folder / "system/etc/fstab").open("a") as table:
            table.write(f"UUID={ROOT} /home btrfs defaults,subvol=@home 0 0\n")
        lost = trace_file(self.disk("ro"))
        self.assertEqual((ids(lost, "fatal"), lost.failing_phase), (["mount-refused"], "session"))
        self.assertIn("subvolume @home", lost.fatal[0].says)


if __name__ == "__main__":
    unittest.main()
