"""The older binary event log of the nt family."""

import struct
import unittest
from datetime import UTC, datetime
from random import Random

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.formats.event_log import MAGIC, is_older_log, read_older_log
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from tests.samples import needs_samples, read_samples

READER = Reader(base_codes(), base_events())
FIRST = 1_788_000_000


def row(number, at, source, event, *strings):
    """A record as its description lays it out."""
    names = f"{source}\0desk\0".encode("utf-16-le")
    words = "".join(f"{each}\0" for each in strings).encode("utf-16-le")
    body = names + words
    body += bytes(-len(body) % 4)
    length = 56 + len(body) + 4
    head = struct.pack(
        "<I4sIIIIHHHHIIIIII",
        *(length, MAGIC, number, at, at, event, 4, len(strings), 0, 0, 0),
        *(56 + len(names), 0, 0, 0, 0),
    )
    return head + body + struct.pack("<I", length)


def log(*rows):
    """A log whose header is stale, as a power cut leaves it."""
    header = struct.pack("<I4s10I", 48, MAGIC, 1, 1, 48, 48, 1, 0, 0x10000, 1, 0, 48)
    return header + b"".join(rows) + bytes(4096)


class Shipped(unittest.TestCase):
    @needs_samples("dissect.eventlog")
    def test_real_logs_a_closed_one_and_one_with_a_stale_header(self):
        found = dict(read_samples("dissect.eventlog", "_data/*.evt"))
        self.assertEqual(len(found), 2)
        for data in found.values():
            records = list(read_older_log(data))
            # as an independent reader has them; the small one comes cut to whole sectors
            whole = [1, 2, 3, 4, 5] if len(data) > 512 else [1, 2]
            self.assertEqual([record.line for record in records], whole)
            self.assertEqual({record.by for record in records}, {"TestApp"})
            when = datetime(2021, 7, 21, 2, 40, 16, tzinfo=UTC).timestamp()
            self.assertEqual((records[0].at, records[0].number), (when, 1))
            self.assertEqual(records[0].data, {"param1": "Test log entry, information"})


class Read(unittest.TestCase):
    def rows(self):
        at, rows = FIRST, []
        for number in range(6):
            rows.append(row(3 * number + 1, at, "EventLog", 6005))
            if number == 3:
                text = "0x0000007b (0xc0000034, 0x0, 0x0, 0x0)"
                rows.append(row(3 * number + 2, at + 5, "BugCheck", 1001, text))
            if number != 2:
                rows.append(row(3 * number + 3, at + 3600, "EventLog", 6006))
            at += 20_000
        return rows

    def test_starts_and_a_crash(self):
        data = log(*self.rows())
        self.assertTrue(is_older_log(data))
        (read,) = READER.read("old.evt", MemorySource(data), 0.0)
        found = analyse("pc", [read], 0, base_codes())
        self.assertEqual((read.kind, len(found.starts)), ("event log", 6))
        self.assertEqual([start.ended for start in found.starts][1:4], ["clean", "crash", "clean"])
        self.assertEqual([crash.code for crash in found.crashes], ["0x7b"])

    def test_any_damage_ends_in_records_or_nothing(self):
        data, random = log(*self.rows()), Random(3)
        for _ in range(400):
            hurt = bytearray(data)
            for _ in range(random.choice((1, 8, 64))):
                hurt[random.randrange(48, len(hurt))] = random.choice(
                    (0, 255, random.randrange(256))
                )
            self.assertLessEqual(len(list(read_older_log(bytes(hurt)))), 14)


if __name__ == "__main__":
    unittest.main()
