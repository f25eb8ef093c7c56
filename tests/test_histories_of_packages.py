"""Package histories of several kinds, and what else changes a system: one line each, as they write
it.
"""

import bz2
import gzip
import lzma
import unittest

import lz4.frame
import zstandard

from mending.crash.read import Reader
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from tests.support import InFolder

READER = Reader(base_codes(), base_events())
DESK = "Nov  3 10:00:00 desk"
ROWS = """
dpkg|slipprint-dkms|2026-05-01 10:00:00 upgrade slipprint-dkms:amd64 1.0-1 1.0-2
dnf|kernel-core|2026-05-01T10:00:00+0000 SUBDEBUG Upgraded: kernel-core-6.1.2-3.fc40.x86_64
yum|quay-libs|May 01 10:00:00 Updated: 1:quay-libs-1.2-3.x86_64
yum-new|slipprint-kmod|May 01 10:00:00 Installed: slipprint-kmod-1.2-3.el9.x86_64
pacman|linux-lts|[2026-05-01T10:00:00+0000] [ALPM] upgraded linux-lts (6.1-1 -> 6.2-1)
pacman-old|slipprint|[2026-05-01 10:00] [ALPM] installed slipprint (6.1-1)
zypper|slipprint-kmp|2026-05-01 10:00:00|install|slipprint-kmp|1.2_k6-3|x86_64|root@desk|repo|
flatpak|org.ferry.Sea|Nov  3 10:00:00 desk flatpak[9]: system: Updated runtime/org.ferry.Sea/x86/1
snap|timetable|Nov  3 10:00:00 desk snapd[9]: Auto-refresh snap "timetable"
firmware|1.7 03/02/2026|Nov  3 10:00:00 desk kernel: [ 0.000000] DMI: Desk 3/Q1, BIOS 1.7 03/02/2026
module|slipprint|Nov  3 10:00:00 desk systemd-modules-load[9]: Inserted module 'slipprint'
card|mmc0: new SDHC card|Nov  3 10:00:00 desk kernel: [ 9.0] mmc0: new SDHC card at address 0001
"""
"""Kind, the name that comes out, and the line."""
LINES = {
    kind: (line, name)
    for kind, name, line in (row.split("|", 2) for row in ROWS.strip().splitlines())
}
HISTORY = """
Start-Date: 2026-05-01  10:00:00
Commandline: apt upgrade
Install: slipprint-dkms:amd64 (1.0-1), quaylib:amd64 (2.0, automatic)
Upgrade: bash:amd64 (5.1, 5.2), tzdata:all (2025a, 2026a)
Remove: gatelamp:amd64 (0.9)
End-Date: 2026-05-01  10:00:09
"""


def events_of(data, name="log"):
    (read,) = READER.read(name, MemorySource(data), 1_795_000_000.0)
    return read.events


class Lines(unittest.TestCase):
    def test_what_was_changed_is_named(self):
        for kind, (line, name) in LINES.items():
            events = events_of(f"{line}\n".encode())
            self.assertEqual([event.name for event in events], [name], kind)
            self.assertIn(events[0].kind, {"installed", "loaded", "plugged"}, kind)

    def test_removed(self):
        for line in (
            "2026-05-01T10:00:00+0000 SUBDEBUG Erase: gatelamp-0.9-1.x86_64",
            "[2026-05-01T10:00:00+0000] [ALPM] removed gatelamp (0.9-1)",
            "2026-05-01 10:00:00|remove |gatelamp|0.9-1|x86_64|root@desk|",
        ):
            (event,) = events_of(f"{line}\n".encode())
            self.assertEqual((event.kind, event.name), ("removed", "gatelamp"), line)

    def test_a_history_in_paragraphs(self):
        events = events_of(HISTORY.encode())
        self.assertEqual(
            [(event.kind, event.what, event.name) for event in events],
            [
                ("installed", "program", "slipprint-dkms"),
                ("installed", "program", "quaylib"),
                ("installed", "update", "bash"),
                ("installed", "update", "tzdata"),
                ("removed", "program", "gatelamp"),
            ],
        )
        self.assertEqual({event.at for event in events}, {1_777_629_600.0})

    def test_packed_in_five_ways(self):
        line = f"{LINES['dpkg'][0]}\n".encode() * 3
        for packed in (
            gzip.compress(line),
            lzma.compress(line),
            bz2.compress(line),
            zstandard.compress(line),
            lz4.frame.compress(line),
        ):
            self.assertEqual(len(events_of(packed)), 3, packed[:4])
            cut = READER.read("log", MemorySource(packed[:-3]), 1_795_000_000.0)
            self.assertEqual(len(cut), 1)
            for place in range(
                4, len(packed)
            ):  # each byte overwritten: what can be read, or a note
                hurt = packed[:place] + bytes([packed[place] ^ 0x55]) + packed[place + 1 :]
                (read,) = READER.read("log", MemorySource(hurt), 1_795_000_000.0)
                self.assertTrue(read.kind)


class Folder(InFolder):
    def test_rotated_and_packed_logs_of_a_tree(self):
        home = self.folder / "pc/var/log"
        (home / "apt").mkdir(parents=True)
        (home / "apt/history.log").write_text(HISTORY)
        (home / "pacman.log").write_text(LINES["pacman"][0])
        (home / "dpkg.log.2.bz2").write_bytes(bz2.compress(LINES["dpkg"][0].encode()))
        kernel = f"{DESK} kernel: [    0.000000] Linux version 6.1.0-ferry\n"
        panic = f"{DESK} kernel: [    9.000000] Kernel panic - not syncing: tide\n"
        (home / "kern.log.1.zst").write_bytes(zstandard.compress((kernel + panic).encode()))
        found = self.json_here("crashes", self.folder / "pc")
        self.assertEqual(len(found["crashes"]), 1)
        self.assertEqual(
            {name.rpartition("/")[2] for name in found["files"]},
            {"history.log", "pacman.log", "dpkg.log.2.bz2", "kern.log.1.zst"},
        )


if __name__ == "__main__":
    unittest.main()
