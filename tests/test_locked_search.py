"""Locked volumes that no table lists: found by their heads, searched inside with a key, and put
back into a table as long as they can be. The real program locks them; those of the nt family are
real samples.
"""

import struct
import unittest
from random import Random

from mending.disk.layout import survey
from mending.disk.scan import search
from mending.model import MendingError
from mending.repair.boot import own_code
from mending.source import MemorySource
from tests.samples import needs_samples
from tests.support import InFolder, needs, sha, tool
from tests.test_encrypted_nt import PASSWORD, sample
from tests.test_locked import HEADS, MAKER, MIB, Locked

AT = MIB
NT_AT, NT_BYTES = 128 * 512, 65_994_752
"""Where the volume of the samples lay, by its own first sector, and how long it was."""


class Searches(InFolder):
    def rows(self, path, *words):
        return self.json_here("search", path, *words)["found"]


@needs(MAKER, "mke2fs")
class Luks(Searches, Locked):
    def disk(self, *volumes, table=True):
        """Volumes behind each other, whole MiB apart, listed or not."""
        path, at, lines = self.folder / "disk.img", AT, ["label: dos"]
        with path.open("wb") as disk:
            for volume in volumes:
                data = volume.read_bytes()
                disk.seek(at)
                disk.write(data)
                lines.append(f"{at // 512},{len(data) // 512},83")
                at += len(data) + MIB
            disk.truncate(at)
        if table:
            tool("sfdisk", "-q", path, stdin="\n".join(lines))
        return path

    def locked_files(self):
        plain = self.folder / "plain"
        plain.write_bytes(bytes(8 * MIB))
        tool("mke2fs", "-q", "-t", "ext4", "-L", "tickets", plain)
        return self.encrypted(plain.read_bytes())

    def test_every_kind_of_head_is_found_listed_or_not(self):
        for kind, words in HEADS.items():
            for table in (True, False):
                with self.subTest(kind, table=table):
                    volume = self.folder / "locked.img"
                    volume.write_bytes(bytes(24 * MIB))
                    self.made("luksFormat", *words, volume)
                    path = self.disk(volume, table=table)
                    (row,) = self.rows(path)
                    self.assertEqual((row["start"], row["filesystem"]), (AT // 512, "luks"))
                    self.assertTrue(row["open_ended"])
                    length = 24 * MIB if table else 25 * MIB  # the entry's, or all that is left
                    self.assertEqual((row["listed"], row["bytes"]), (1 if table else None, length))
                    self.assertGreater(row["sureness"], 0.6)

    def test_the_second_copy_of_a_head_is_enough(self):
        path = self.disk(self.locked_files(), table=False)
        with path.open("r+b") as disk:
            disk.seek(AT)
            disk.write(bytes(4096))
        (row,) = self.rows(path)
        self.assertEqual((row["start"], row["filesystem"]), (AT // 512, "luks"))

    def test_a_second_copy_speaks_for_a_volume_only_where_it_is_whole(self):
        path = self.disk(self.locked_files())
        (row,) = self.rows(path)
        self.assertIn("a second copy of its head is whole", row["because"])
        with path.open("r+b") as disk:
            disk.seek(AT + 0x4000 + 5000)
            disk.write(b"hurt")
        (less,) = self.rows(path)
        self.assertNotIn("a second copy of its head is whole", less["because"])
        self.assertLess(less["sureness"], row["sureness"])

    def test_what_is_inside_needs_the_key(self):
        path = self.disk(self.locked_files(), table=False)
        before = sha(path)
        self.assertEqual([row["filesystem"] for row in self.rows(path)], ["luks"])
        outer, inner = self.rows(path, "--key-file", self.key())
        told = (inner["start"], inner["inside"], inner["filesystem"], inner["label"])
        self.assertEqual(told, (0, outer["start"], "ext", "tickets"))
        self.assertEqual(inner["bytes"], 8 * MIB)
        shown = self.run_here("search", path, "--unlock", stdin="seven calm seas\n")
        self.assertRegex(shown, r"inside 2048\b")
        self.assertIn("up to ", shown)
        wrong = self.key(b"rough seas")
        told = self.run_here("search", path, "--key-file", wrong, expect=3)
        self.assertIn("opens none of the 1 key slots", told)
        self.assertEqual(sha(path), before)

    def test_a_key_for_nothing(self):
        path = self.folder / "plain.img"
        path.write_bytes(bytes(MIB))
        self.assertIn("is locked", self.run_here("search", path, "--unlock", stdin="x\n", expect=2))

    def relisted(self, path, room):
        """The lost table written anew, what is inside opened. Args: room: at the end, for it."""
        told = self.run_here("mend", path, "partition-table", "--yes")
        self.assertIn("luks at sector 2048", told)
        found = self.json_here("trace", path, "--key-file", self.key())
        outer, inner = found["volumes"]
        length = path.stat().st_size - AT - room
        self.assertEqual((outer["start"] * 512, outer["bytes"]), (AT, length))
        self.assertEqual((inner["filesystem"], inner["label"]), ("ext", "tickets"))

    def test_a_lost_table_lists_it_again_as_long_as_it_can_be(self):
        self.relisted(self.disk(self.locked_files(), table=False), 0)

    def test_a_lost_gpt_leaves_room_for_its_second_copy(self):
        path = self.disk(self.locked_files(), table=False)
        tool("sfdisk", "-q", path, stdin="label: gpt\nstart=2048\n")
        with path.open("r+b") as disk:
            for at in (512, path.stat().st_size - 512):
                disk.seek(at)
                disk.write(bytes(512))
        self.relisted(path, 33 * 512)

    def test_an_entry_that_fits_is_left_as_it_is(self):
        path = self.disk(self.locked_files())
        with path.open("r+b") as disk:
            disk.truncate(path.stat().st_size + 20 * MIB)
            disk.write(own_code())
        told = self.run_here("mend", path, "partition-table", "--yes", "--key-at-hand", expect=4)
        self.assertIn("lists every volume that was found", told)


class Hostile(unittest.TestCase):
    def test_a_disk_full_of_marks_of_locked_volumes_is_read_in_bounds(self):
        for mark in (b"LUKS\xba\xbe\0\1", b"LUKS\xba\xbe\0\2", b"SKUL\xba\xbe\0\2"):
            with self.subTest(mark):
                source = Counted(mark.ljust(512, b"\1") * 40_000)
                self.assertEqual(search(source), [])
                self.assertLess(source.count, 4000)


class Counted(MemorySource):
    """How many times more than one sector was read."""

    count = 0

    def read(self, offset, length):
        self.count += length > 512
        return super().read(offset, length)


@needs_samples("dissect.fve")
class Nt(Searches):
    def disk(self, name):
        path = self.folder / f"{name}.img"
        with path.open("wb") as disk:
            disk.truncate(NT_AT + NT_BYTES + MIB)
            disk.seek(NT_AT)
            disk.write(sample(name))
        return path

    def test_found_with_its_length_and_searched_inside(self):
        key = self.folder / "key"
        key.write_bytes(PASSWORD)
        path = self.disk("aes-xts_128")
        outer, inner = self.rows(path, "--key-file", key)
        self.assertEqual((outer["start"], outer["bytes"]), (128, NT_BYTES))
        self.assertEqual((outer["filesystem"], outer["open_ended"]), ("encrypted", False))
        self.assertIn("it knows its own place", outer["because"])
        self.assertEqual((inner["start"], inner["inside"], inner["filesystem"]), (0, 128, "ntfs"))
        self.assertIn("it knows its own place", inner["because"])

    def test_what_keeps_its_key_in_the_open_needs_none(self):
        kinds = [row["filesystem"] for row in self.rows(self.disk("suspended"))]
        self.assertEqual(kinds, ["encrypted", "ntfs"])

    def test_a_length_that_is_not_told(self):
        outer, _ = self.rows(self.disk("decrypted"))
        self.assertTrue(outer["open_ended"])
        self.assertEqual(outer["bytes"], NT_BYTES + MIB)

    def test_heads_that_say_anything(self):
        whole, random = sample("aes-xts_128"), Random(11)
        blocks = struct.unpack_from("<3Q", whole, 176)
        for number in range(60):
            data = bytearray(whole)
            for _ in range(random.choice((1, 8))):
                near = random.choice((0, *blocks))
                data[near + random.randrange(512)] = random.randrange(256)
            with self.subTest(number):
                source = MemorySource(bytes(NT_AT) + bytes(data))
                near = [(NT_AT, MIB), *((NT_AT + block, 4096) for block in blocks)]
                try:
                    survey(source)
                    search(source, ranges=near)
                except MendingError as error:
                    self.assertTrue(error.says)


if __name__ == "__main__":
    unittest.main()
