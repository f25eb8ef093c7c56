"""Findings of damaged tables and boot code, each made byte by byte from the written format; and
every id of the catalogue is used.
"""

import re
import unittest
from pathlib import Path

import mending
from mending.model import FindingId
from tests.support import SECTOR, ids, trace_bytes
from tests.test_parsers import entry, table

SECTORS = 4096
EXTENDED, LINUX, FAT = 0x05, 0x83, 0x0C


def disk(first, *later):
    """A disk with this first sector, and others at their numbers."""
    data = bytearray(first.ljust(SECTORS * SECTOR, b"\0"))
    for number, sector in later:
        data[number * SECTOR : number * SECTOR + len(sector)] = sector
    return bytes(data)


class Tables(unittest.TestCase):
    def check(self, expected, data):
        self.assertIn(expected, ids(trace_bytes(data)))

    def test_entries_that_cannot_be(self):
        rows = {
            "table-entry-past-end": (entry(0x80, FAT, 64, SECTORS),),
            "table-entry-empty": (entry(0x80, FAT, 64, 0),),
            "table-entry-at-zero": (entry(0x80, FAT, 64, 900), entry(0, LINUX, 0, 64)),
            "table-entries-overlap": (entry(0x80, FAT, 64, 900), entry(0, LINUX, 100, 900)),
            "table-flag-odd": (entry(0x12, FAT, 64, 900),),
        }
        for expected, entries in rows.items():
            with self.subTest(expected):
                self.check(expected, disk(table(*entries)))

    def test_chains_of_extended_partitions_that_cannot_be(self):
        first = table(entry(0, EXTENDED, 1000, 3000))
        good = entry(0, LINUX, 10, 100)
        rows = {
            "table-logical-loop": [(1000, table(good, entry(0, EXTENDED, 0, 500)))],
            "table-logical-outside": [(1000, table(good, entry(0, EXTENDED, 60_000, 500)))],
            "table-logical-past-end": [(1000, table(entry(0, LINUX, 10, 60_000)))],
            "table-logical-overlap": [
                (1000, table(entry(0, LINUX, 10, 700), entry(0, EXTENDED, 500, 500))),
                (1500, table(good)),
            ],
            "table-logical-too-many": [
                (1000 + 11 * n, table(entry(0, LINUX, 1, 9), entry(0, EXTENDED, 11 * n + 11, 11)))
                for n in range(260)
            ],
        }
        for expected, later in rows.items():
            with self.subTest(expected):
                self.check(expected, disk(first, *later))

    def test_code_that_starts_nothing_or_is_not_known(self):
        whole = table(entry(0x80, FAT, 64, 900))
        rows = {"boot-code-unknown": bytes(range(1, 120)) * 3}
        for expected, code in rows.items():
            with self.subTest(expected):
                self.check(expected, disk(code[:440].ljust(440, b"\x90") + whole[440:]))


class Catalogue(unittest.TestCase):
    def test_every_id_is_used(self):
        house = Path(mending.__file__).parent
        code = "".join(
            path.read_text() for path in house.rglob("*.py") if "catalogue" not in path.parts
        )
        self.assertEqual([each for each in FindingId if f"FindingId.{each.name}" not in code], [])

    def test_every_id_is_named_by_a_test(self):
        tests = "".join(path.read_text() for path in Path(__file__).parent.glob("*.py"))
        words = set(re.findall(r"[a-z0-9]+(?:-[a-z0-9]+)+", tests))
        self.assertEqual([each.value for each in FindingId if each.value not in words], [])


if __name__ == "__main__":
    unittest.main()
