"""NTFS by our own reader, against what real drivers wrote and what an independent reader sees."""

import lzma
import unittest
from random import Random

from hypothesis import given
from hypothesis import strategies as st

from mending.disk.files import FileDamagedError, FilesUnavailableError, open_files
from mending.disk.layout import survey
from mending.disk.ntfs import NtfsReader
from mending.formats import ntfs
from mending.model import ByteOffset, DamagedFileError, InputError
from mending.source import MemorySource
from tests.independent_reader import IndependentReader
from tests.ntfs_volume import CONTENTS, FILE, GONE, HARD_LINK, MANY, MANY_COUNT, many_contents
from tests.samples import needs_samples, read_samples

VOLUME = lzma.decompress(FILE.read_bytes())
LEFT = {name: data for name, data in CONTENTS.items() if name not in GONE}
MUTATIONS = 150


def opened(data=VOLUME):
    return NtfsReader(MemorySource(bytes(data)), ByteOffset(0))


def files_of(data=VOLUME):
    source = MemorySource(bytes(data))
    return open_files(source, survey(source).volumes[0])


def walked(reader, folder="/", most=5000):
    """Path to length of every file, links and the system's own files left out."""
    found = {}
    for name, length, is_folder, is_link, _ in reader.listing(folder):
        path = f"{folder.rstrip('/')}/{name}"
        if name.startswith("$") or len(found) > most:
            continue
        if is_folder and not is_link:
            found |= walked(reader, path, most)
        elif not is_folder:
            found[path] = length
    return found


def record_at(data, name):
    """Where the file record with this name stands."""
    wanted = name.encode("utf-16-le")
    at = 0
    while True:
        at = data.index(wanted, at + 1)
        start = at // 1024 * 1024
        if data[start : start + 4] == b"FILE":
            return start


class WrittenByTheDriver(unittest.TestCase):
    def test_names_lengths_and_contents_are_those_that_were_written(self):
        reader = opened()
        wanted = {f"/{name}": len(data) for name, data in LEFT.items()}
        wanted[f"/{HARD_LINK[1]}"] = len(CONTENTS[HARD_LINK[0]])
        self.assertEqual(walked(reader), wanted)
        for name, data in LEFT.items():
            self.assertEqual(reader.read(name, len(data)), data, name)
        self.assertEqual(reader.read(HARD_LINK[1], 1 << 20), CONTENTS[HARD_LINK[0]])

    def test_what_is_packed_or_has_holes_is_told_and_the_rest_can_be_patched_in_place(self):
        reader = opened()
        self.assertTrue(reader.is_packed("packed/list-0"))
        self.assertFalse(reader.is_packed("a/b/c/deep"))
        for name in ("packed/list-0", "sparse", "many/ticket-001.txt"):
            self.assertIsNone(reader.extents(name), name)
        runs = reader.extents("a/b/c/deep")
        found = b"".join(VOLUME[start : start + length] for start, length in runs)
        self.assertEqual(found[:70_000], CONTENTS["a/b/c/deep"])

    def test_names_are_found_in_any_case_by_the_volumes_own_capitals(self):
        files = files_of()
        found = files.find("/B\u00dcRO \u00e4/\u00df/\u65e5\u672c.TXT")
        self.assertEqual(files.read(found), b"hello" * 1000)
        self.assertIsNone(files.find("/B\u00dcRO \u00e4/ss/\u65e5\u672c.txt"))
        self.assertIsNone(files.find(f"/{GONE[1]}"))

    def test_a_length_that_a_folder_has_outdated_is_not_believed(self):
        data = bytearray(VOLUME)
        record = record_at(VOLUME, "another-name")
        name = "another-name".encode("utf-16-le")
        places = [at for at in range(len(data)) if data.startswith(name, at)]
        changed = 0
        for at in places:
            if data[at - 66 + 48 : at - 66 + 50] == (70_000).to_bytes(4, "little")[:2]:
                data[at - 66 + 48 : at - 66 + 56] = bytes(8)
                changed += at // 1024 * 1024 != record
        self.assertGreater(changed, 0)
        files = files_of(data)
        found = files.find("/another-name")
        self.assertEqual(found.bytes, 70_000)
        self.assertEqual(files.read(found), CONTENTS["a/b/c/deep"])
        (listed,) = (file for file in files.listing("/") if file.path == "/another-name")
        self.assertEqual(len(files.read(listed)), 70_000)


class ManyFiles(unittest.TestCase):
    def test_twenty_thousand_files_are_those_that_were_written(self):
        data = lzma.decompress(MANY.read_bytes())
        reader, oracle = opened(data), IndependentReader(MemorySource(data), 0, "NTFS")
        written = dict(many_contents())
        self.assertEqual(len(written), MANY_COUNT)
        lengths = {f"/{name}": len(content) for name, content in written.items()}
        self.assertEqual(walked(reader, most=1 << 20), lengths)
        theirs = {f"/season-3/{row[0]}": row[1] for row in oracle.listing("/season-3")}
        self.assertEqual(walked(reader, "/season-3"), theirs)
        for name in list(written)[::7]:
            self.assertEqual(reader.read(name, 1 << 20), written[name], name)


class Damaged(unittest.TestCase):
    def test_a_torn_record_hides_only_its_own_file(self):
        data = bytearray(VOLUME)
        data[record_at(VOLUME, "deep") + 510] ^= 0xFF
        files = files_of(data)
        with self.assertRaises(FileDamagedError):
            files.read(files.find("/a/b/c/deep"))
        self.assertEqual(files.read(files.find("/packed/list-1")), CONTENTS["packed/list-1"])
        self.assertEqual(len(files.listing("/many")), 180 - len(GONE))

    def test_names_in_a_torn_block_of_an_index_are_not_called_missing(self):
        data = bytearray(VOLUME)
        places = [at for at in range(0, len(data), 4096) if data[at : at + 4] == b"INDX"]
        mark = "ticket-".encode("utf-16-le")
        torn = next(at for at in places if mark in data[at : at + 4096])
        data[torn + 1022] ^= 0xFF
        whole = {file.path for file in files_of().listing("/many")}
        files = files_of(data)
        left = {file.path for file in files.listing("/many")}
        self.assertTrue(left < whole and left)
        hidden = sorted(whole - left)[0]
        with self.assertRaises(FileDamagedError):
            files.find(hidden)
        there = files.find(sorted(left)[0])
        self.assertEqual(files.read(there), CONTENTS[there.path[1:]])

    def test_the_mirror_serves_where_the_tables_own_record_is_torn(self):
        data = bytearray(VOLUME)
        table = int.from_bytes(data[48:56], "little") * 4096
        self.assertEqual(data[table : table + 4], b"FILE")
        data[table : table + 4] = b"BAAD"
        self.assertEqual(opened(data).read("many/ticket-005.txt", 99), b"x" * 45)
        mirror = int.from_bytes(data[56:64], "little") * 4096
        data[mirror : mirror + 4] = b"BAAD"
        with self.assertRaises(FilesUnavailableError):
            files_of(data)

    def test_a_name_whose_record_was_used_anew_is_a_damaged_file(self):
        data = bytearray(VOLUME)
        record = record_at(VOLUME, "deep")
        data[record + 16] ^= 0x55
        with self.assertRaises(DamagedFileError):
            opened(data).read("a/b/c/deep", 10)

    def test_any_damage_ends_in_our_own_errors(self):
        random = Random(16)
        places = [
            at for at in range(0, len(VOLUME), 512) if VOLUME[at : at + 4] in {b"FILE", b"INDX"}
        ]
        read = 0
        for _ in range(MUTATIONS):
            data = bytearray(VOLUME)
            for _ in range(random.choice((1, 2, 8, 64))):
                at = random.choice(
                    (random.choice(places) + random.randrange(1024), random.randrange(512))
                )
                data[at] = random.choice((0, 255, random.randrange(256)))
            try:
                reader = opened(data)
                for path in walked(reader, most=40):
                    reader.extents(path)
                    read += bool(reader.read(path, 1 << 20))
            except InputError:
                continue
        self.assertGreater(read, MUTATIONS)

    @given(st.binary(max_size=300))
    def test_any_packed_bytes_unpack_or_are_refused(self, data):
        try:
            self.assertLessEqual(len(ntfs.unpack_lznt1(data, 65_536)), 65_536)
        except InputError as error:
            self.assertIn("piece", error.says)


@needs_samples("dissect.ntfs")
class Shipped(unittest.TestCase):
    def test_a_real_volume_reads_as_an_independent_reader_reads_it(self):
        data = dict(read_samples("dissect.ntfs", "_data/*"))["ntfs.bin.gz"]
        source = MemorySource(data)
        reader, oracle = NtfsReader(source, ByteOffset(0)), IndependentReader(source, 0, "NTFS")
        mine, theirs = (
            {row[0]: row[1] for row in rows if not row[2]}
            for rows in (reader.listing("/"), oracle.listing("/"))
        )
        own = {name for name in mine if not name.startswith("$")}
        self.assertEqual(own, {name for name in theirs if not name.startswith("$")})
        for name in own:
            length = min(mine[name], 1 << 20)
            self.assertEqual(mine[name], theirs[name])
            self.assertEqual(reader.read(name, length), oracle.read(f"/{name}", length))
        many = [row for row in reader.listing("/") if row[2] and len(reader.listing(row[0])) > 1000]
        self.assertEqual(len(many), 1)


if __name__ == "__main__":
    unittest.main()
