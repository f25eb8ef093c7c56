"""Ext volumes by our own reader, against what real programs wrote and what an independent reader
sees.
"""

import contextlib
import re
import unittest
from random import Random

from mending.disk.ext import ExtReader
from mending.disk.files import FileDamagedError, FilesUnavailableError, open_files
from mending.disk.layout import survey
from mending.model import ByteOffset, InputError
from mending.source import MemorySource, open_source
from tests.independent_reader import IndependentReader
from tests.root_disks import FIRST, ROOT_UUID, root_disk, system_tree
from tests.support import (
    SECTOR,
    InFolder,
    ids,
    mounted,
    needs,
    needs_mounts,
    patch,
    sha,
    tool,
    trace_file,
)

MUTATIONS = 400
MANY = 1200
DEPTH = 8
"""A damaged folder may hold itself."""
KINDS = {
    "ext2": ("-t", "ext2", "-b", "1024"),
    "ext2 of the first revision": ("-t", "ext2", "-r", "0"),
    "ext3": ("-t", "ext3", "-b", "4096"),
    "ext4": ("-t", "ext4"),
    "data in inodes": ("-t", "ext4", "-O", "inline_data", "-I", "512"),
    "descriptors apart": ("-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024", "-g", "1024"),
    "no checksums": ("-t", "ext4", "-O", "^64bit,^metadata_csum", "-b", "1024"),
    "clusters": ("-t", "ext4", "-O", "bigalloc", "-b", "1024"),
    "own seed, no hash trees": ("-t", "ext4", "-O", "metadata_csum_seed,^dir_index"),
}


def make_tree(folder, many=MANY):
    """Files of every shape that matters to a reader."""
    random = Random(7)
    for name in ("many", "a/b/c", "empty"):
        (folder / name).mkdir(parents=True)
    for number in range(many):
        (folder / f"many/ticket-{number}.txt").write_text(f"berth {number}\n")
    (folder / "a/b/c/deep").write_bytes(random.randbytes(1_500_000))
    (folder / "small").write_bytes(b"hi")
    with (folder / "sparse").open("wb") as file:
        file.seek(3_000_000)
        file.write(b"end")
    (folder / "short").symlink_to("a/b")
    (folder / "long").symlink_to("a/b/../" * 60 + "b")
    (folder / "Büro-日本").write_bytes(b"hello" * 1000)
    (folder / "small").chmod(0o4750)


def made(folder, *options, many=MANY, size="48M"):
    """A volume that holds the tree, and the tree."""
    tree, path = folder / "tree", folder / "volume"
    if not tree.exists():
        tree.mkdir()
        make_tree(tree, many)
    path.unlink(missing_ok=True)
    tool("mke2fs", "-q", "-F", *options, "-d", tree, path, size)
    return path


def walked(reader, folder="/", most=1 << 20):
    """Path to what is there: content, target of a link, or a folder; and permissions."""
    found = {}
    for name, length, is_folder, is_link, mode in reader.listing(folder):
        path = f"{folder.rstrip('/')}/{name}"
        if len(found) > most or path.count("/") > DEPTH:
            break
        if is_link:
            found[path] = ("link", reader.link(path))
        elif is_folder:
            found[path] = ("folder", mode)
            found |= walked(reader, path, most)
        else:
            found[path] = (reader.read(path, min(length, 1 << 22)) if length else b"", mode)
    return found


def in_tree(top):
    found = {}
    for path in top.rglob("*"):
        name = f"/{path.relative_to(top)}"
        if path.is_symlink():
            found[name] = ("link", str(path.readlink()))
        else:
            mode = path.stat().st_mode & 0o7777
            found[name] = ("folder", mode) if path.is_dir() else (path.read_bytes(), mode)
    return found


@contextlib.contextmanager
def changed(path, at):
    """A file with one byte changed, for a while."""
    with path.open("rb") as file:
        file.seek(at)
        byte = file.read(1)
    patch(path, at, bytes((byte[0] ^ 0x5A,)))
    yield
    patch(path, at, byte)


def opened(data):
    return ExtReader(MemorySource(bytes(data)), ByteOffset(0))


def files_of(path):
    source = MemorySource(path.read_bytes())
    return open_files(source, survey(source).volumes[0])


@needs("mke2fs", "debugfs")
class WrittenByRealPrograms(InFolder):
    def test_every_kind_reads_as_it_was_written(self):
        for kind, options in KINDS.items():
            with self.subTest(kind):
                reader = opened(made(self.folder, *options).read_bytes())
                found = walked(reader)
                del found["/lost+found"]
                self.assertEqual(found, in_tree(self.folder / "tree"))
                self.assertEqual(reader.hidden("/many"), "")

    def test_an_independent_reader_sees_the_same(self):
        data = made(self.folder, *KINDS["ext4"]).read_bytes()
        mine, theirs = opened(data), IndependentReader(MemorySource(data), 0, "EXT_DETECT")
        for folder in ("/", "/many", "/a/b/c"):
            rows = {
                (name, 0 if is_folder else length, is_folder, *rest)
                for name, length, is_folder, *rest in theirs.listing(folder)
                if not name.startswith("$")
            }
            self.assertEqual(set(mine.listing(folder)), rows)
        self.assertEqual(theirs.link("/short"), mine.link("/short"))

    def test_twenty_thousand_files(self):
        tree = self.folder / "tree"
        for row in range(20):
            (tree / f"row-{row}").mkdir(parents=True)
            for number in range(1000):
                (tree / f"row-{row}/ticket-{number}.txt").write_bytes(b"%d %d" % (row, number))
        reader = opened(made(self.folder, "-t", "ext4", "-N", "24000", size="140M").read_bytes())
        found = walked(reader)
        del found["/lost+found"]
        self.assertEqual(found, in_tree(tree))
        self.assertEqual(len(found), 20_020)

    def test_extents_lead_to_the_bytes_and_holes_have_none(self):
        for kind in ("ext2", "ext4", "data in inodes"):
            data = made(self.folder, *KINDS[kind]).read_bytes()
            reader = opened(data)
            runs = reader.extents("/a/b/c/deep")
            found = b"".join(data[start : start + length] for start, length in runs)
            self.assertEqual(found[:1_500_000], (self.folder / "tree/a/b/c/deep").read_bytes())
            self.assertIsNone(reader.extents("/sparse"))
        self.assertIsNone(reader.extents("/small"))

    def test_blocks_that_were_never_written_read_as_zeros(self):
        path = made(self.folder, *KINDS["ext4"])
        tool("debugfs", "-w", "-R", "fallocate /small 3 9", path)
        tool("debugfs", "-w", "-R", "set_inode_field /small size 40000", path)
        reader = opened(path.read_bytes())
        data = reader.read("/small", 40_000)
        self.assertEqual((data[:2], len(data), any(data[2:])), (b"hi", 40_000, False))
        self.assertIsNone(reader.extents("/small"))

    def test_a_removed_name_is_gone(self):
        path = made(self.folder, *KINDS["ext3"])
        tool("debugfs", "-w", "-R", "rm /many/ticket-7.txt", path)
        self.assertIsNone(files_of(path).find("/many/ticket-7.txt"))
        self.assertIsNotNone(files_of(path).find("/many/ticket-8.txt"))


@needs_mounts
@needs("mke2fs", "debugfs", "e2fsck")
class GrownByTheKernel(InFolder):
    """Folders of a mounted volume, which the kernel turns from one block into a hash tree."""

    KINDS = (
        (("-b", "1024"), 20_000),
        (("-b", "1024", "-O", "large_dir"), 60_000),
        (("-b", "4096", "-O", "^metadata_csum"), 20_000),
    )

    def grown(self, options, most):
        path = self.folder / "volume"
        path.unlink(missing_ok=True)
        tool("mke2fs", "-q", "-F", "-t", "ext4", "-N", "90000", *options, path, "200M")
        with mounted(path, "ext4", options="rw") as top:
            for count in sorted({1, 400, 700, most}):
                (top / f"of-{count}").mkdir()
                for number in range(count):
                    (top / f"of-{count}/passenger-list-of-{number:06}").touch()
            for number in range(most):
                if number % 37:
                    (top / f"of-{most}/passenger-list-of-{number:06}").unlink()
                if 3 < number < 700:
                    (top / f"of-700/passenger-list-of-{number:06}").unlink()
        tool("e2fsck", "-fn", path)
        return path

    def test_they_are_read_as_another_program_reads_them(self):
        for options, most in self.KINDS:
            path = self.grown(options, most)
            with open_source(str(path)) as source:
                reader = ExtReader(source, ByteOffset(0))
                for folder in ("of-1", "of-400", "of-700", f"of-{most}"):
                    rows = tool("debugfs", "-R", f"ls -p {folder}", path).splitlines()
                    names = {row.split("/")[5] for row in rows if row} - {".", "..", ""}
                    self.assertEqual({row[0] for row in reader.listing(folder)}, names)
                    self.assertEqual(reader.hidden(folder), "", (options, folder))

    def test_damage_in_any_block_of_them_is_noticed(self):
        path = self.grown(*self.KINDS[0])
        shown = tool("debugfs", "-R", "htree of-20000", path)
        self.assertIn("Indirect levels: 1", shown)
        node = int(re.search(r"Entry #0: .*block (\d+)", shown)[1])
        rows = [(0, 40), (0, 0x18 + 6), (node, 12), (node, 1020), (1, 9), (1, 1022)]
        for block, at in rows:
            where = int(tool("debugfs", "-R", f"bmap of-20000 {block}", path).split()[-1]) * 1024
            with changed(path, where + at), open_source(str(path)) as source:
                self.assertIn("damaged", ExtReader(source, ByteOffset(0)).hidden("of-20000"))


@needs("mke2fs", "debugfs")
class Damaged(InFolder):
    def place(self, path, inode):
        """Where an inode stands."""
        shown = tool("debugfs", "-R", f"imap {inode}", path)
        block, offset = shown.split("located at block ")[1].split(", offset ")
        size = int(tool("debugfs", "-R", "stats", path).split("Block size:")[1].split()[0])
        return int(block) * size + int(offset, 16)

    def block(self, path, inode):
        """Where the first block of a file stands."""
        size = int(tool("debugfs", "-R", "stats", path).split("Block size:")[1].split()[0])
        return int(tool("debugfs", "-R", f"bmap {inode} 0", path).split()[-1]) * size

    def test_a_damaged_inode_hides_only_its_own_file_and_is_no_empty_one(self):
        path = made(self.folder, *KINDS["ext4"])
        data = bytearray(path.read_bytes())
        data[self.place(path, "/small") + 4] ^= 0x40
        path.write_bytes(data)
        files = files_of(path)
        found = files.find("/small")
        self.assertEqual(found.bytes, -1)
        with self.assertRaisesRegex(FileDamagedError, "inode-checksum"):
            files.read(found)
        self.assertEqual(files.read(files.find("/many/ticket-1.txt")), b"berth 1\n")
        self.assertIsNone(files.find("/nothing"))

    def test_a_name_in_a_damaged_block_is_not_called_missing(self):
        for kind, at, why in (("ext4", 24, "folder-checksum"), ("ext3", 28, "folder-row")):
            path = made(self.folder, *KINDS[kind])
            data = bytearray(path.read_bytes())
            data[self.block(path, "/a/b") + at] ^= 0xFF
            path.write_bytes(data)
            with self.subTest(kind), self.assertRaisesRegex(FileDamagedError, why):
                files_of(path).find("/a/b/other")

    def test_a_folder_of_a_system_that_is_damaged_is_never_just_a_note(self):
        tree = system_tree(self.folder, "ext4", ROOT_UUID)
        for number in range(300):
            (tree / f"usr/bin/print-the-passenger-list-{number}").write_text("#!/bin/sh\n")
        volume = self.folder / "volume"
        tool("mke2fs", "-q", "-F", "-t", "ext4", "-U", ROOT_UUID, "-d", tree, volume, "48M")
        disk = root_disk(self.folder, volume, f"root=UUID={ROOT_UUID} ro")
        sound = trace_file(disk)
        self.assertEqual((sound.verdict, ids(sound)), ("no-fault-found", []))
        at = self.block(volume, "/usr/bin")
        patch(disk, FIRST * SECTOR + at + 60, b"\x99")
        trace = trace_file(disk)
        self.assertEqual([system.title for system in trace.systems], [sound.systems[0].title])
        self.assertEqual((trace.verdict, ids(trace, "warning")), ("unsure", ["folder-damaged"]))
        self.assertIn("/usr/bin", trace.unread.says)

    def test_a_wrong_root_inside_a_unified_kernel_is_put_right_unless_it_is_signed(self):
        tree, volume = system_tree(self.folder, "ext4", ROOT_UUID), self.folder / "volume"
        tool("mke2fs", "-q", "-F", "-t", "ext4", "-U", ROOT_UUID, "-d", tree, volume, "48M")
        other = "5ea00000-0000-4000-8000-00000000dead"
        disk = root_disk(self.folder, volume, f"root=UUID={other} ro quiet")
        before = sha(disk)
        self.assertEqual(ids(trace_file(disk), "fatal"), ["root-missing"])
        self.json_here("mend", disk, "root-name", "--yes")
        self.assertEqual((trace_file(disk).verdict, ids(trace_file(disk))), ("no-fault-found", []))
        self.run_here("undo", disk)
        self.assertEqual(sha(disk), before)
        data = disk.read_bytes()
        at = data.index(b"PE\0\0", data.index(b"MZ", 2048 * SECTOR))
        row = at + 24 + 112 + 8 * 4  # where a signature and its length are told
        patch(disk, row, (4096).to_bytes(4, "little") + (8).to_bytes(4, "little"))
        said = self.run_here("mend", disk, "root-name", "--yes", expect=4)
        self.assertIn("is signed", " ".join(said.split()))

    def test_a_damaged_map_costs_the_file_only(self):
        for kind in ("ext2", "ext4"):
            path = made(self.folder, *KINDS[kind])
            tool("debugfs", "-w", "-R", "set_inode_field /a/b/c/deep block[0] 99999999", path)
            files = files_of(path)
            with self.subTest(kind), self.assertRaises(FileDamagedError):
                files.read(files.find("/a/b/c/deep"))
            self.assertEqual(files.read(files.find("/small")), b"hi")

    def test_a_map_that_goes_in_circles_ends(self):
        path = made(self.folder, *KINDS["ext2"])
        block = self.block(path, "/small") // 1024
        tool("debugfs", "-w", "-R", f"set_inode_field /a/b/c/deep block[DIND] {block}", path)
        tool("debugfs", "-w", "-R", "set_inode_field /a/b/c/deep size 16000000000", path)
        data = bytearray(path.read_bytes())
        data[block * 1024 : (block + 1) * 1024] = block.to_bytes(4, "little") * 256
        with self.assertRaisesRegex(InputError, "circles"):
            opened(data).extents("/a/b/c/deep")

    def test_what_is_encrypted_or_the_same_in_any_case_is_said(self):
        path = made(self.folder, *KINDS["ext4"])
        tool("debugfs", "-w", "-R", "set_inode_field /small flags 0x80800", path)
        tool("debugfs", "-w", "-R", "set_inode_field /many flags 0x81800", path)
        tool("debugfs", "-w", "-R", "set_inode_field /a flags 0x40080000", path)
        files = files_of(path)
        with self.assertRaisesRegex(FilesUnavailableError, "encrypted"):
            files.read(files.find("/small"))
        for name in ("/many/x", "/a/B"):
            with self.assertRaises(FileDamagedError):
                files.find(name)

    def test_a_volume_with_features_that_are_not_known_is_not_read(self):
        path = made(self.folder, *KINDS["no checksums"])
        data = bytearray(path.read_bytes())
        data[1024 + 99] |= 0x20
        path.write_bytes(data)
        with self.assertRaisesRegex(FilesUnavailableError, "features"):
            files_of(path)

    def test_any_damage_ends_in_our_own_errors(self):
        random, read = Random(16), 0
        for kind in ("ext2", "ext4", "data in inodes", "no checksums"):
            path = made(self.folder, *KINDS[kind], size="9M", many=40)
            whole = path.read_bytes()
            places = [1024, *(self.place(path, name) for name in ("/", "/many", "/a/b/c/deep"))]
            places += [self.block(path, "/many"), self.block(path, "/"), 2048, 4096]
            for _ in range(MUTATIONS // 4):
                data = bytearray(whole)
                for _ in range(random.choice((1, 2, 8, 64))):
                    at = random.choice(places) + random.randrange(256)
                    data[at] = random.choice((0, 255, random.randrange(256)))
                try:
                    reader = opened(data)
                    for path_found, what in walked(reader, most=60).items():
                        reader.extents(path_found)
                        read += bool(what[0])
                except InputError:
                    continue
        self.assertGreater(read, MUTATIONS)


if __name__ == "__main__":
    unittest.main()
