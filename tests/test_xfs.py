"""XFS volumes by our own reader, against what the real program wrote, what another reader of such
volumes reads, and a volume that a real kernel filled.
"""

import struct
import unittest
from random import Random

from mending.disk.files import FileDamagedError, open_files
from mending.disk.layout import survey
from mending.disk.xfs import XfsReader
from mending.model import ByteOffset, InputError, Patch
from mending.source import DiskOverlay, MemorySource, open_source
from tests.root_disks import FIRST, root_disk, system_tree
from tests.samples import needs_samples, read_samples
from tests.support import SECTOR, InFolder, ids, needs, patch, sha, tool, trace_file
from tests.test_ext import in_tree, make_tree, walked

MIB, MUTATIONS = 1 << 20, 150
ROOT = "1f0e1d2c-3b4a-4958-8677-695a4b3c2d1e"
KINDS = {
    "usual": (),
    "small blocks": ("-b", "size=1024"),
    "long blocks of folders": ("-n", "size=65536"),
    "many extents": ("-i", "nrext64=1,size=1024"),
    "of the version before": ("-m", "crc=0"),
}


def prototype(tree):
    """The lines from which the real program fills a volume."""
    yield "/dev/null\n0 0\nd--755 0 0\n"
    yield from _rows(tree)
    yield "$\n"


def _rows(folder):
    for path in sorted(folder.iterdir()):
        mode = path.lstat().st_mode & 0o777
        if path.is_symlink():
            yield f"{path.name} l--777 0 0 {path.readlink()}\n"
        elif path.is_dir():
            yield f"{path.name} d--{mode:o} 0 0\n"
            yield from _rows(path)
            yield "$\n"
        else:
            special = "u" if path.stat().st_mode & 0o4000 else "-"
            yield f"{path.name} -{special}-{mode:o} 0 0 {path}\n"


def changed(source, *pieces):
    """The volume with other bytes at some places."""
    patches = [
        Patch(ByteOffset(at), source.read(at, len(data)).data, data, "") for at, data in pieces
    ]
    return DiskOverlay(source, patches)


@needs("mkfs.xfs")
class WrittenByTheRealProgram(InFolder):
    def made(self, *options, many=700):
        tree, path, lines = (self.folder / name for name in ("tree", "volume", "prototype"))
        if not tree.exists():
            tree.mkdir()
            make_tree(tree, many)
        lines.write_text("".join(prototype(tree)))
        path.unlink(missing_ok=True)
        with path.open("wb") as file:
            file.truncate(310 * MIB)
        tool("mkfs.xfs", "-q", "-f", "-p", lines, *options, path)
        return path

    def test_every_kind_reads_as_it_was_written(self):
        for kind, options in KINDS.items():
            with self.subTest(kind), open_source(str(self.made(*options))) as source:
                reader = XfsReader(source, ByteOffset(0))
                self.assertEqual(walked(reader), in_tree(self.folder / "tree"))
                self.assertEqual(reader.hidden("/many"), "")
                runs = reader.extents("/a/b/c/deep")
                found = b"".join(source.read(start, length).data for start, length in runs)
                deep = (self.folder / "tree/a/b/c/deep").read_bytes()
                self.assertEqual(found[: len(deep)], deep)

    @needs("grub-fstest")
    def test_another_reader_reads_the_same(self):
        path = self.made()
        for name in ("many/ticket-7.txt", "short/c/deep"):
            theirs = self.folder / "theirs"
            tool("grub-fstest", path, "cp", f"(loop0)/{name}", theirs)
            with open_source(str(path)) as source:
                files = open_files(source, survey(source).volumes[0])
                found = files.find(name)
                self.assertEqual(files.read(found), theirs.read_bytes())

    def test_a_root_is_read_to_the_session(self):
        lines, volume = self.folder / "lines", self.folder / "root"
        lines.write_text("".join(prototype(system_tree(self.folder, "xfs", ROOT))))
        with volume.open("wb") as file:
            file.truncate(310 * MIB)
        tool("mkfs.xfs", "-q", "-f", "-m", f"uuid={ROOT}", "-p", lines, volume)
        trace = trace_file(root_disk(self.folder, volume, f"root=UUID={ROOT} ro"))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        self.assertEqual([system.title for system in trace.systems], ["Ferry Linux 3"])

    def test_a_lost_superblock_comes_back_from_the_copy_of_another_group(self):
        lines, volume = self.folder / "lines", self.folder / "root"
        lines.write_text("".join(prototype(system_tree(self.folder, "xfs", ROOT))))
        with volume.open("wb") as file:
            file.truncate(310 * MIB)
        tool("mkfs.xfs", "-q", "-f", "-m", f"uuid={ROOT}", "-p", lines, volume)
        disk = root_disk(self.folder, volume, f"root=UUID={ROOT} ro")
        before, at = sha(disk), FIRST * SECTOR
        patch(disk, at, bytes(512))
        trace = trace_file(disk)
        self.assertEqual(
            (ids(trace, "fatal"), trace.failing_phase), (["root-superblock-lost"], "kernel")
        )
        self.run_here("mend", disk, "superblock", "--yes")
        self.assertEqual(trace_file(disk).verdict, "no-fault-found")
        with disk.open("rb") as file, volume.open("wb") as part:
            file.seek(at)
            part.write(file.read(310 * MIB))
        tool("xfs_repair", "-n", "-f", volume)
        patch(disk, at, bytes(512))
        for group in range(4):  # nothing is written where the groups have no heads
            patch(disk, at + group * (310 * MIB // 4 + 4095) // 4096 * 4096 + 512, bytes(512))
        self.run_here("mend", disk, "superblock", "--yes", expect=4)
        self.assertNotEqual(sha(disk), before)

    def inode_at(self, reader, path):
        """Where the inode of a file is."""
        return reader._volume.inode_place(reader._find(path))

    def test_damage_costs_what_is_damaged(self):
        with open_source(str(self.made(many=20))) as source:
            reader = XfsReader(source, ByteOffset(0))
            at = self.inode_at(reader, "/small")
            (block, _), *_ = reader.extents("/many")
            torn = changed(source, (at + 60, b"\x55"))
            reader = XfsReader(torn, ByteOffset(0))
            with self.assertRaisesRegex(InputError, "inode-checksum"):
                reader.read("/small", 2)
            self.assertEqual(reader.read("/many/ticket-3.txt", 99), b"berth 3\n")
            torn = changed(source, (block + 64 + 40, bytes(60)))
            files = open_files(torn, survey(torn).volumes[0])
            with self.assertRaises(FileDamagedError):
                files.find("/many/nothing")
            self.assertEqual(len(files.read(files.find("/a/b/c/deep"))), 1_500_000)

    def test_any_damage_ends_in_our_own_errors(self):
        random, read = Random(16), 0
        with open_source(str(self.made(many=40))) as source:
            reader = XfsReader(source, ByteOffset(0))
            names = ("/", "/many", "/a/b/c/deep", "/small", "/long")
            places = [0, *(self.inode_at(reader, name) for name in names)]
            places += [start for start, _ in reader.extents("/many")]
            for _ in range(MUTATIONS):
                patches = [
                    (
                        random.choice(places) + random.randrange(256),
                        bytes([random.choice((0, 255, random.randrange(256)))]),
                    )
                    for _ in range(random.choice((1, 2, 8, 64)))
                ]
                try:
                    reader = XfsReader(changed(source, *patches), ByteOffset(0))
                    for path, what in walked(reader, most=60).items():
                        reader.extents(path)
                        read += bool(what[0])
                except InputError:
                    continue
        self.assertGreater(read, MUTATIONS)


@needs("mkfs.xfs", "xfs_db")
class TreesOfExtents(InFolder):
    """A file whose extents lie in a tree. The real program fills no volume so; the blocks of the
    tree are put together here, sealed by the systems' own debugger, and read by it, too.
    """

    BLOCK, INODE, LITERAL = 4096, 512, {72: 176, 24: 100}
    PIECES = ((0, 10), (10, 5), (15, 25))
    """Blocks of the file: the first, and how many."""

    def setUp(self):
        super().setUp()
        self.path = self.folder / "volume"

    def debugger(self, *commands):
        words = [word for command in commands for word in ("-c", command)]
        return tool("xfs_db", "-x", *words, self.path)

    def made(self, head, levels):
        """A volume with a file of three extents in a tree.

        Args:
            head: bytes of the head of a block: 72, or 24 in the version before.
            levels: of the tree, its root in the inode among them.
        """
        content, lines = self.folder / "content", self.folder / "lines"
        content.write_bytes(Random(levels).randbytes(40 * self.BLOCK))
        lines.write_text(
            f"/dev/null\n0 0\nd--755 0 0\nlog ---644 0 0 {content}\nroom ---644 0 0 {content}\n$\n"
        )
        self.path.unlink(missing_ok=True)
        with self.path.open("wb") as file:
            file.truncate(310 * MIB)
        kind = () if head == 72 else ("-m", "crc=0", "-i", f"size={self.INODE}")
        tool("mkfs.xfs", "-q", "-f", *kind, "-p", lines, self.path)
        with open_source(str(self.path)) as source:
            reader = XfsReader(source, ByteOffset(0))
            at, number = reader._volume.inode_place(reader._find("/log")), reader._find("/log")
            ((start, _),) = reader.extents("/log")
            ((room, _),) = reader.extents("/room")
        first, spare = start // self.BLOCK, room // self.BLOCK
        rows = [
            struct.pack(">QQ", place << 9, (first + place) << 21 | count)
            for place, count in self.PIECES
        ]
        leaves = [(0, b"".join(rows[:2]), 2), (0, rows[2], 1)]
        space = (self.BLOCK - head) // 16 * 8
        keys = struct.pack(">QQ", 0, 15).ljust(space, b"\0")
        leaves += [(1, keys + struct.pack(">QQ", spare, spare + 1), 2)] if levels == 3 else []
        data = bytearray(self.path.read_bytes())
        for place, (level, inside, count) in enumerate(leaves, spare):
            block = bytearray(self.BLOCK)
            struct.pack_into(
                ">4sHHqq", block, 0, b"BMA3" if head == 72 else b"BMAP", level, count, -1, -1
            )
            if head == 72:
                struct.pack_into(">QQ16sQ", block, 24, place * 8, 0, bytes(data[32:48]), number)
            block[head : head + len(inside)] = inside
            data[place * self.BLOCK : (place + 1) * self.BLOCK] = block
        literal = self.LITERAL[head]
        fork = bytearray(data[at + 82] * 8 or self.INODE - literal)
        space = 4 + (len(fork) - 4) // 16 * 8
        if levels == 3:
            struct.pack_into(">HHQ", fork, 0, 2, 1, 0)
            struct.pack_into(">Q", fork, space, spare + 2)
        else:
            struct.pack_into(">HHQQ", fork, 0, 1, 2, 0, 15)
            struct.pack_into(">QQ", fork, space, spare, spare + 1)
        data[at + 5] = 3
        struct.pack_into(">I", data, at + 76, 3)
        data[at + literal : at + literal + len(fork)] = fork
        self.path.write_bytes(data)
        if head == 72:
            self.debugger(f"inode {number}", "crc -r")
            for place in range(spare, spare + len(leaves)):
                self.debugger(f"fsblock {place}", "type bmapbtd", "crc -r")
        told = self.debugger(f"inode {number}", "bmap")
        wanted = [f"data offset {place} startblock {first + place}" for place, _ in self.PIECES]
        starts = [row.partition(" (")[0] for row in told.splitlines()]
        self.assertEqual(starts, wanted)
        return content.read_bytes(), spare * self.BLOCK, at + literal + space

    def test_it_is_read_as_the_systems_debugger_reads_it(self):
        for head in self.LITERAL:
            for levels in (2, 3):
                with self.subTest(head=head, levels=levels):
                    content, _, _ = self.made(head, levels)
                    with open_source(str(self.path)) as source:
                        reader = XfsReader(source, ByteOffset(0))
                        self.assertEqual(reader.read("/log", 1 << 20), content)

    def test_a_damaged_block_and_one_that_leads_back_cost_the_file_only(self):
        for head, place, value, says in (
            (72, 80, b"\x01", "is damaged"),
            (72, 0, b"no", "is damaged"),
            (24, 5, b"\x01", "is damaged"),  # a leaf that says it is none
            (24, 6, b"\xff\xff", "is damaged"),  # more rows than fit
        ):
            with self.subTest(head=head, place=place):
                content, spare, _ = self.made(head, 2)
                with open_source(str(self.path)) as source:
                    reader = XfsReader(changed(source, (spare + place, value)), ByteOffset(0))
                    with self.assertRaisesRegex(InputError, says):
                        reader.read("/log", 1 << 20)
                    self.assertEqual(len(reader.read("/room", 1 << 20)), len(content))
        _, spare, children = self.made(24, 2)
        with open_source(str(self.path)) as source:
            second = source.read(children, 8).data
            reader = XfsReader(changed(source, (children + 8, second)), ByteOffset(0))
            with self.assertRaisesRegex(InputError, "in circles"):
                reader.read("/log", 1 << 20)


@needs_samples("dissect.xfs")
class Shipped(unittest.TestCase):
    def test_volumes_that_kernels_filled_are_read_to_the_last_name(self):
        files = 0
        for name, data in read_samples("dissect.xfs", "_data/*"):
            with self.subTest(name):
                reader = XfsReader(MemorySource(data), ByteOffset(0))
                found = walked(reader)
                files += len(found)
                self.assertTrue(all(what[0] or what == (b"", what[1]) for what in found.values()))
        self.assertGreater(files, 0)


if __name__ == "__main__":
    unittest.main()
