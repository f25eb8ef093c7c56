"""Binary journals of systemd, as its own programs write them, against what they print."""

import json
import os
import subprocess
import unittest
from pathlib import Path
from random import Random
from unittest.mock import patch

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.formats.journal import HEAD_BYTES, Journal, read_header
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from tests.support import InFolder, needs

WRITER, PRINTER = Path("/usr/lib/systemd/systemd-journal-remote"), "journalctl"
BOOTS, LINES = 4, 150
FIRST = 1_788_000_000_000_000
PANIC = (
    "BUG: unable to handle page fault for address: ffffb4c2003fd000",
    "RIP: 0010:slipprint_xmit+0x1f/0x80 [slipprint]",
    "Kernel panic - not syncing: Fatal exception in interrupt",
)
READER = Reader(base_codes(), base_events())
SEARCH = "mending.formats.journal.search"


def exported():
    """Entries of four starts, two of which end in a panic, as text."""
    random, rows, at = Random(8), [], FIRST
    for boot in range(BOOTS):
        clock = 0
        said = [("kernel", "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP")]
        for number in range(LINES):
            long = " calm sea" * random.randrange(1, 300) if number % 7 == 0 else ""
            said.append(("till", f"ticket {number} sold, no error{long}"))
        said[100] = ("systemd", f"Failed to start lamp {'of the quay ' * 90}")  # it will be packed
        said += [("kernel", text) for text in PANIC] if boot % 2 else []
        for by, text in said:
            clock += random.randrange(1000, 9_000_000)
            fields = {
                "__REALTIME_TIMESTAMP": at + clock,
                "__MONOTONIC_TIMESTAMP": clock,
                "_BOOT_ID": f"{boot + 1:032x}",
                "MESSAGE": text,
                "SYSLOG_IDENTIFIER": by,
                "_TRANSPORT": "kernel" if by == "kernel" else "syslog",
                "_PID": random.randrange(900),
            }
            rows += [f"{name}={value}\n" for name, value in fields.items()] + ["\n"]
        at += clock + 100_000_000
    return "".join(rows).encode()


def written(folder, packing="ZSTD", compact="1"):
    path = folder / f"{packing}-{compact}.journal"
    held = folder / "in.export"
    held.write_bytes(exported())
    subprocess.run(
        [WRITER, "-o", path, held],
        check=True,
        capture_output=True,
        env={
            **os.environ,
            "SYSTEMD_JOURNAL_COMPRESS": packing,
            "SYSTEMD_JOURNAL_COMPACT": compact,
        },
    )
    return path


def opened(data):
    header = read_header(data[:HEAD_BYTES])
    return Journal(lambda at, length: data[at : at + length], len(data), header)


def told(data):
    journal = opened(data)
    return [
        (entry.realtime, entry.boot, journal.values(entry).get(b"MESSAGE=", b"").decode())
        for entry in journal.entries()
    ]


@needs(WRITER, PRINTER)
class Journals(InFolder):
    def test_entries_are_those_that_the_systems_own_program_prints(self):
        for packing in ("XZ", "LZ4", "ZSTD", "0"):
            for compact in "01":
                path = written(self.folder, packing, compact)
                words = [PRINTER, "--file", path, "-o", "json", "--all", "--no-pager"]
                shown = subprocess.run(words, check=True, capture_output=True, text=True).stdout
                rows = [json.loads(row) for row in shown.splitlines()]
                theirs = [
                    (int(row["__REALTIME_TIMESTAMP"]), row["_BOOT_ID"], row["MESSAGE"])
                    for row in rows
                ]
                self.assertEqual(told(path.read_bytes()), theirs, f"{packing} {compact}")
                self.assertEqual(len(theirs), BOOTS * (LINES + 1) + 2 * len(PANIC))

    def test_what_a_search_finds_is_what_a_walk_finds(self):
        for packing in ("XZ", "LZ4", "ZSTD", "0"):
            for compact in "01":
                source = MemorySource(written(self.folder, packing, compact).read_bytes())
                searched = READER.read("j", source, 0.0)
                with patch(SEARCH, return_value=None):
                    self.assertEqual(
                        READER.read("j", source, 0.0), searched, f"{packing} {compact}"
                    )
                self.assertEqual(len(searched[0].crashes), BOOTS // 2)
                failed = [event.what for event in searched[0].events if event.kind == "failed"]
                self.assertEqual(failed, ["service"] * BOOTS)

    def test_starts_and_crashes(self):
        path = written(self.folder)
        found = self.json_here("crashes", path)
        self.assertEqual((len(found["starts"]), len(found["crashes"])), (BOOTS, 2))
        self.assertEqual({crash["module"] for crash in found["crashes"]}, {"slipprint"})
        self.assertEqual(found["notes"], [])
        export = self.folder / "in.export"
        both = self.folder / "both"
        both.mkdir()
        for each in (path, export):
            (both / each.name).write_bytes(each.read_bytes())
        merged = self.json_here("crashes", both)
        self.assertEqual((len(merged["starts"]), len(merged["crashes"])), (BOOTS, 2))
        self.assertEqual(merged["written"], 4)

    def test_a_tree_and_what_lies_before_damage(self):
        place = self.folder / "tree/var/log/journal/5ea0/system.journal"
        place.parent.mkdir(parents=True)
        data = written(self.folder).read_bytes()
        place.write_bytes(data)
        (self.folder / "tree/etc").mkdir()
        (self.folder / "tree/etc/os-release").write_text("ID=ferry\n")
        found = self.json_here("crashes", self.folder / "tree")
        self.assertEqual(len(found["starts"]), BOOTS)
        whole = told(data)
        journal = opened(data)
        middle = [entry.offset for entry in journal.entries()][len(whole) // 2]
        torn = data[: middle + 20] + bytes(len(data) - middle - 20)
        self.assertEqual(told(torn), whole[: len(whole) // 2])
        cut = data[: middle + 20]
        self.assertEqual(told(cut), whole[: len(whole) // 2])
        place.write_bytes(torn)
        self.assertIn(
            "damaged at offset", self.json_here("crashes", self.folder / "tree")["notes"][0]
        )

    def test_entries_that_no_array_lists_any_more_are_walked_to(self):
        data = bytearray(written(self.folder).read_bytes())
        whole = told(bytes(data))
        at = int.from_bytes(data[176:184], "little")
        following = int.from_bytes(data[at + 16 : at + 24], "little")
        self.assertGreater(following, 0)
        data[at + 16 : at + 24] = bytes(8)  # the chain of arrays ends behind its first
        self.assertEqual(told(bytes(data)), whole)

    def test_five_hundred_damaged_copies_end_in_notes(self):
        data, random = written(self.folder).read_bytes(), Random(500)
        used = len(data.rstrip(b"\0"))
        some = 0
        for _ in range(500):
            hurt = bytearray(data[: used + 64])
            for _ in range(random.choice((1, 4, 64))):
                hurt[random.randrange(16, len(hurt))] = random.choice(
                    (0, 255, random.randrange(256))
                )
            if random.random() < 0.2:
                del hurt[random.randrange(len(hurt)) :]
            (read,) = READER.read("j", MemorySource(bytes(hurt) or b"x"), 0.0)
            analyse("pc", [read], 0, base_codes())
            some += bool(read.events)
        self.assertGreater(some, 350)


if __name__ == "__main__":
    unittest.main()
