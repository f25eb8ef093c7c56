"""Journals that a real system wrote under QEMU: a clean stop, a panic and a power cut, read from
its disk and set against what its own program prints.
"""

import json
import re
import subprocess
import unittest
from datetime import timedelta
from pathlib import Path
from random import Random
from unittest.mock import patch

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.formats.journal import HEAD_BYTES, Journal, read_header
from mending.knowledge import base_codes, base_events
from mending.model import read_time
from mending.source import MemorySource
from tests.machine import OVMF, QEMU, screen_of
from tests.real import (
    ROOT_START,
    START,
    bios_disk,
    grub_loader,
    menu,
    needs_real,
    uefi_disk,
)
from tests.support import EVERY, SECTOR, InFolder, needs, tool

PRINTER = "journalctl"
PACKINGS = ("XZ", "LZ4", "ZSTD")
DAMAGED = 500 if EVERY else 60
UNIT = """[Unit]
Description=Ticket office
After=multi-user.target
[Service]
Type=oneshot
StandardOutput=null
ExecStart=/bin/sh /usr/local/office.sh
"""
STORY = f"""day=$(cat /var/office-day 2>/dev/null || echo 0)
echo $((day + 1)) > /var/office-day
sync
[ $day -gt 0 ] && day=$((day + {0 if EVERY else 2}))
"""
STORY += """\
settle() { journalctl --sync; sync; }
in_use() { settle; echo still selling | systemd-cat -t till; sleep 2; sync; }
cut() { in_use; echo OFFICE-CUT > /dev/console; sleep 1000; }
case $day in
0)
    for packing in XZ LZ4 ZSTD; do
        mkdir -p /run/systemd/system/systemd-journald.service.d
        printf '[Service]\\nEnvironment=SYSTEMD_JOURNAL_COMPRESS=%s\\n' $packing \\
            > /run/systemd/system/systemd-journald.service.d/office.conf
        systemctl daemon-reload
        systemctl restart systemd-journald
        journalctl --rotate
        for number in 1 2 3 4; do
            printf "ticket $packing %2000s\\n" $number | systemd-cat -t till
        done
        settle
    done
    CLEAN_AT_FIRST ;;
1)
    in_use
    sysctl -q kernel.panic=0
    echo c > /proc/sysrq-trigger ;;
2)
    cut ;;
*)
    settle
    systemctl poweroff ;;
esac
""".replace("CLEAN_AT_FIRST", "systemctl poweroff" if EVERY else "cut")
PANICS = "modprobe efi_pstore\nsleep 1\nsysctl -q kernel.panic=0\necho c > /proc/sysrq-trigger\n"
PANIC = "end Kernel panic"
ENDS = ("Power down", PANIC, "OFFICE-CUT", "Power down") if EVERY else ("OFFICE-CUT", "Power down")
HOW = [{"Power down": "clean"}.get(end, "unclean") for end in ENDS]
"""How the starts end. By default the clean one at first and the panic are left out, for each start
takes more than a minute; another test has a panic.
"""


def opened(data):
    return Journal(
        lambda at, length: data[at : at + length], len(data), read_header(data[:HEAD_BYTES])
    )


def told(data):
    journal = opened(data)
    return [
        (entry.realtime, entry.boot, journal.values(entry).get(b"MESSAGE=", b""))
        for entry in journal.entries()
    ]


def printed(path):
    """The same as the system's own program gives it; what is no text comes as numbers."""
    words = [PRINTER, "--file", path, "-o", "json", "--all", "--no-pager"]
    shown = subprocess.run(words, check=True, capture_output=True, text=True).stdout
    rows = [json.loads(row) for row in shown.splitlines()]
    messages = [row.get("MESSAGE", "") for row in rows]
    return [
        (
            int(row["__REALTIME_TIMESTAMP"]),
            row["_BOOT_ID"],
            message.encode() if isinstance(message, str) else bytes(message),
        )
        for row, message in zip(rows, messages, strict=True)
    ]


class Office(InFolder):
    def open_office(self, path, start, story):
        """Give a system a unit with this story, in the root that starts at this sector."""
        volume = f"{path}?offset={start * SECTOR}"
        wants = "/etc/systemd/system/multi-user.target.wants"
        for place, text in (
            ("/etc/systemd/system/office.service", UNIT),
            ("/usr/local/office.sh", story),
        ):
            (self.folder / "held").write_text(text)
            tool("debugfs", "-w", "-R", f"write {self.folder / 'held'} {place}", volume)
        tool("debugfs", "-w", "-R", f"symlink {wants}/office.service ../office.service", volume)
        return volume

    def started(self, path, firmware, end, **more):
        shown = screen_of(
            path, firmware, end, seconds=400, memory=768, idle=200, bus=",if=virtio", **more
        )
        self.assertIn(end, shown, shown[-2000:])


@needs(QEMU, OVMF, "sfdisk", "debugfs", "mkfs.fat", "mcopy", "grub-mkimage")
class Firmware(Office):
    @needs_real
    def test_last_words_that_firmware_keeps(self):
        loader = grub_loader(self.folder / "grub.efi")
        inside = {"EFI/BOOT/BOOTX64.EFI": loader, "EFI/ferry/grub.cfg": menu().encode()}
        path = uefi_disk(self.folder / "pc.img", inside)
        self.open_office(path, ROOT_START, PANICS)
        store = self.folder / "remembered.fd"
        store.write_bytes(Path(str(OVMF).replace("CODE", "VARS")).read_bytes())
        self.started(path, "uefi", PANIC, store=store, keep=True)
        found = self.json_here("crashes", store)
        self.assertEqual([crash["kind"] for crash in found["crashes"]], ["panic"])
        crash = found["crashes"][0]
        self.assertIn("sysrq", " ".join([crash["headline"], crash["reason"], *crash["trace"]]))
        self.assertIsNotNone(crash["at"])
        case = self.folder / "case"
        self.run_here("open", case)
        self.run_here("add", case, store)
        self.assertEqual(len(self.json_here("crashes", case)["crashes"]), 1)


@needs(PRINTER, QEMU, "sfdisk", "debugfs")
class RealJournals(Office):
    reader = Reader(base_codes(), base_events())

    def disk(self):
        """A system whose office unit does something else at each start."""
        path = bios_disk(self.folder / "pc.img")
        return path, self.open_office(path, START, STORY)

    @needs_real
    def test_starts_of_a_real_system(self):
        path, volume = self.disk()
        for end in ENDS:
            self.started(path, "bios", end, keep_disk=True)
        journals = self.compared(volume)
        self.told_of(path)
        for data in sorted(journals, key=len)[:2]:
            self.damaged(data)

    def compared(self, volume):
        """Every journal, entry by entry; returns their bytes."""
        home = "/var/log/journal"
        machine = re.search(r"[0-9a-f]{32}", tool("debugfs", "-R", f"ls {home}", volume)).group()
        home = f"{home}/{machine}"
        names = re.findall(r"\S+\.journal~?", tool("debugfs", "-R", f"ls {home}", volume))
        self.assertEqual(
            sum(name.endswith("~") for name in names), HOW.count("unclean"), names
        )  # torn off in use
        found, packings = [], set()
        for name in names:
            held = self.folder / name
            tool("debugfs", "-R", f"dump {home}/{name} {held}", volume)
            data = held.read_bytes()
            theirs = printed(held)
            self.assertEqual(told(data), theirs, name)
            searched = self.reader.read(name, MemorySource(data), 0.0)
            with patch("mending.formats.journal.search", return_value=None):
                self.assertEqual(self.reader.read(name, MemorySource(data), 0.0), searched, name)
            self.assertGreater(len(theirs), 5)
            packings |= {row[2].split()[1] for row in theirs if row[2].startswith(b"ticket ")}
            found.append(data)
        self.assertEqual(packings, {packing.encode() for packing in PACKINGS})
        return found

    def told_of(self, path):
        """What the whole disk tells: how each start ended and how long it lasted."""
        found = self.json_here("crashes", path)
        starts = found["starts"][-len(ENDS) :]
        self.assertEqual([start["ended"] for start in starts], HOW)
        self.assertTrue(all(start["minutes"] > 0.1 for start in starts), starts)
        self.assertNotIn("unclean", [start["ended"] for start in found["starts"][: -len(ENDS)]])
        silent = [crash for crash in found["crashes"] if crash["kind"] == "unclean-stop"]
        self.assertEqual(len(silent), 0)  # nothing in the records says a word of either
        self.assertEqual(len(found["silent_ends"]), HOW.count("unclean"))
        self.assertTrue(all(end["last"] for end in found["silent_ends"]), found["silent_ends"])
        times = [read_time(start["at"])[0] for start in starts]
        self.assertEqual(times, sorted(times))
        self.assertLess(times[-1] - times[0], timedelta(hours=1).total_seconds())

    def damaged(self, data):
        """Bytes overwritten anywhere: what lies before the first of them is read as before, but for
        one entry: the array that lists it may lie behind it.
        """
        random = Random(len(data))
        whole = told(data)
        offsets = [entry.offset for entry in opened(data).entries()]
        objects = offsets[-1] + 64
        for _ in range(DAMAGED // 2):
            hurt = bytearray(data)
            places = [random.randrange(HEAD_BYTES, objects) for _ in range(random.choice((1, 8)))]
            for place in places:
                hurt[place] = random.choice((0, 255, random.randrange(256)))
            if random.random() < 0.2:
                del hurt[places[0] :]
            (read,) = self.reader.read("j", MemorySource(bytes(hurt)), 0.0)
            analyse("pc", [read], 0, base_codes())
            before = max(sum(offset < min(places) - 64 for offset in offsets) - 1, 0)
            self.assertEqual(told(bytes(hurt))[:before], whole[:before])


if __name__ == "__main__":
    unittest.main()
