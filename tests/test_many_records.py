"""The same PC written down in many files: one event stays one, and what crashes name weighs."""

import json
import subprocess
import unittest
from datetime import UTC, datetime, timedelta

from benchmarks.linux_records import laid_out, records

from mending.app.evidence import read_crashes
from mending.crash.judge import analyse
from mending.crash.judge.suspects import Mention, What, pointed_at, reach, touches
from mending.crash.read import Reader, log_files, packages_of
from mending.knowledge import base_codes, base_events
from mending.model import read_time
from mending.source import MemorySource
from tests.support import InFolder, needs

LATER = 1_795_000_000.0
READER = Reader(base_codes(), base_events())


def judged(files):
    reads = [
        read
        for name, data in files.items()
        for read in READER.read(name, MemorySource(data), LATER)
    ]
    return analyse("pc", reads, 0, base_codes())


class Once(unittest.TestCase):
    def test_written_once_twice_and_three_times_the_counts_and_ranks_are_the_same(self):
        for seed in range(6):
            story = records(seed)
            syslog, packages = story.files["syslog"], story.files["dpkg.log"]
            once = {"syslog": syslog, "dpkg.log": packages}
            thrice = {**story.files, "copy/syslog": syslog, "copy/dpkg.log": packages}
            found = [judged(files) for files in (once, story.files, thrice)]
            for each in found:
                self.assertEqual(
                    (len(each.crashes), len(each.starts)), (story.crashes, story.starts)
                )
                self.assertEqual(
                    [(one.change, one.share) for one in each.suspects],
                    [(one.change, one.share) for one in found[0].suspects],
                )
            self.assertEqual(
                [each.written for each in found], [story.crashes * n for n in (1, 2, 3)]
            )
            self.assertTrue(all(len(crash.also) == 2 for crash in found[2].crashes))

    def test_changes_in_front_of_the_first_start_are_no_run(self):
        story = records(2)
        old = b"2026-03-01 10:00:00 upgrade tidelib:amd64 1.0-1 1.0-2\n"
        found = judged({**story.files, "dpkg.log": old + story.files["dpkg.log"]})
        self.assertEqual(len(found.starts), story.starts)
        self.assertLess(found.hours, 1000)
        self.assertEqual(judged({"dpkg.log": old}).starts, ())

    def test_two_crashes_within_a_second_of_one_file_are_two(self):
        line = "Nov  3 10:11:12 desk kernel: [  9.100000] Kernel panic - not syncing: tide"
        other = line.replace("9.100000", "9.600000")
        found = judged({"syslog": f"{line}\nNov  3 10:11:12 desk x: y\n{other}\n".encode()})
        self.assertEqual(len(found.crashes), 2)

    def test_a_log_of_local_time_beside_a_journal_that_has_the_zone(self):
        story = next(
            each for each in map(records, range(9)) if b"Jan  1" not in each.files["syslog"]
        )
        rows = []
        for line in story.files["kern.log"].decode().splitlines():
            time = datetime.strptime(f"2026 {line[:15]}", "%Y %b %d %H:%M:%S").replace(tzinfo=UTC)
            text = line.partition("kernel: ")[2].partition("] ")[2]
            rows.append(
                json.dumps(
                    {
                        "__REALTIME_TIMESTAMP": str(int((time.timestamp() - 7200) * 1e6)),
                        "MESSAGE": text,
                        "SYSLOG_IDENTIFIER": "kernel",
                        "_TRANSPORT": "kernel",
                    }
                )
            )
        files = {"syslog": story.files["syslog"], "journal.json": "\n".join(rows).encode()}
        found = judged(files)
        self.assertEqual((len(found.crashes), len(found.starts)), (story.crashes, story.starts))
        self.assertIn("2 hours", " ".join(found.notes))


class SignIns(InFolder):
    """The record of starts and sign-ins, as the system's own program writes it from text."""

    @needs("utmpdump")
    def test_beside_a_log_it_tells_of_the_same_starts(self):
        rows, log = [], []
        for number in range(4):
            at = datetime.fromtimestamp(1_788_000_000 + number * 20_000, UTC)
            written = "%Y-%m-%dT%H:%M:%S,000000+00:00"
            time, later = (each.strftime(written) for each in (at, at + timedelta(hours=2)))
            row = "[{}] [{:05}] [{:4}] [{:8}] [{:12}] [6.1.0-ferry         ] [0.0.0.0        ] [{}]"
            rows.append(row.format(2, 0, "~~", "reboot", "~", time))
            rows.append(row.format(7, 400, "ts/0", "clerk", "tty1", time))
            if number != 2:
                rows.append(row.format(1, 0, "~~", "shutdown", "~", later))
            log.append(
                f"{at:%b} {at.day:2d} {at:%H:%M:%S} desk kernel: Linux version 6.1.0-ferry\n"
            )
        text = ("\n".join(rows) + "\n").encode()
        made = subprocess.run(["utmpdump", "-r"], input=text, capture_output=True, check=True)
        self.assertEqual(len(made.stdout), 384 * len(rows))
        both = {"wtmp": made.stdout, "syslog": "".join(log).encode()}
        for files in ({"wtmp": made.stdout}, both):
            found = judged(files)
            ended = [start.ended for start in found.starts]
            self.assertEqual(ended[:3], ["clean", "clean", "unclean"])
            self.assertEqual((len(ended), found.starts[0].signed_in), (4, True))


class Pointing(unittest.TestCase):
    def test_what_brings_a_module(self):
        for name, module, sure in (
            ("slipprint-dkms", "slipprint", 1.0),
            ("slip-print-dkms", "slip_print", 1.0),
            ("slipprint.sys", "SLIPPRINT.SYS", 1.0),
            ("quay-slipprint-tools", "slipprint", 0.9),
            ("slipprin-drivers", "slipprint", 0.7),
            ("linux-image-6.1.0-ferry", "slipprint", 0.25),
            ("bash", "slipprint", 0.0),
            ("libssl3", "ssl", 0.0),
            ("x", "ab", 0.0),
        ):
            self.assertEqual(touches(name, Mention(What.MODULE, module)), sure, name)

    def test_what_points_nowhere_loses_but_never_to_zero(self):
        slip, quay = Mention(What.MODULE, "slipprint"), Mention(What.MODULE, "quaynet")
        named = [(slip,)] * 50
        guilty = pointed_at(("slipprint-dkms",), named, {})
        other = pointed_at(("bash",), named, {})
        self.assertEqual((guilty.ends, guilty.of, other.ends), (50, 50, 0))
        self.assertLess(other.weight, 0)
        self.assertGreater(other.weight, -5)
        self.assertLess(guilty.weight, 10)
        victims = [(slip,)] * 7 + [(quay,)] * 3
        weights = [
            pointed_at((name,), victims, {}).weight
            for name in ("slipprint-dkms", "quaynet", "bash")
        ]
        self.assertEqual(weights, sorted(weights, reverse=True))


class Packages(InFolder):
    """What packages bring, by the lists that their database keeps."""

    def system(self, lists):
        for name, text in lists.items():
            place = self.folder / "pc" / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_text(text)
        return self.folder / "pc"

    def test_a_package_that_is_called_otherwise_than_its_module(self):
        home = self.system(
            {
                "var/lib/dpkg/info/port-tools.list": "/.\n/lib/modules/6.1/extra/slipprint.ko.xz\n",
                "var/lib/dpkg/info/quay-dkms:amd64.list": "/usr/src/quay-2/dkms.conf\n",
                "usr/src/quay-2/dkms.conf": 'PACKAGE_NAME="quay"\nBUILT_MODULE_NAME[0]="tide"\n'
                "BUILT_MODULE_NAME[1]=$(touch /tmp/never)\n",
                "var/lib/dpkg/info/bash.list": "/usr/share/doc/a.koi8.txt\n/bin/bash\n",
                "var/lib/dpkg/info/lamp.list": "/usr/lib/firmware/lamp.bin\n",
                "var/lib/pacman/local/gate-lamp-1.0-2/files": "%FILES%\nusr/lib/modules/6/gate.ko\n"
                "\n%BACKUP%\netc/x.ko\n",
            }
        )
        names = ("port-tools", "quay-dkms", "bash", "lamp", "gate-lamp", "../bash", "none")
        found = packages_of(home, names)
        self.assertEqual(
            {name: (set(each.modules), each.firmware) for name, each in found.items()},
            {
                "port-tools": ({"slipprint"}, False),
                "quay-dkms": ({"tide"}, False),
                "bash": (set(), False),
                "lamp": (set(), True),
                "gate-lamp": ({"gate"}, False),
            },
        )
        self.assertEqual(
            touches("port-tools", Mention(What.MODULE, "slipprint"), found["port-tools"]), 1.0
        )
        self.assertEqual(
            [
                reach("update", name, found)
                for name in ("port-tools", "lamp", "bash", "mesa-quay", "kernel")
            ],
            [3.0, 3.0, 0.0, 2.0, 3.0],
        )

    def test_the_list_makes_it_the_first(self):
        stories = map(records, range(200))
        story = next(each for each in stories if each.names and "port-tools" in each.guilty)
        laid_out(story, self.folder / "pc")
        told = self.json_here("crashes", self.folder / "pc")
        self.assertIn("port-tools", told["suspects"][0]["change"])
        self.assertIn("which it brought", told["suspects"][0]["says"])

    def test_a_kernel_brings_so_many_that_one_says_little(self):
        rows = [f"/lib/modules/6.1/kernel/part{number}.ko" for number in range(400)]
        home = self.system({"var/lib/dpkg/info/linux-image-6.1.list": "\n".join(rows)})
        found = packages_of(home, ["linux-image-6.1"])
        self.assertEqual(
            touches("linux-image-6.1", Mention(What.MODULE, "part7"), found["linux-image-6.1"]),
            0.25,
        )


class Command(InFolder):
    def test_the_guilty_change_comes_first_and_the_interval_holds_the_onset(self):
        first = held = named = failing = 0
        for seed in range(0, 40, 2):
            story = records(seed)
            place = self.folder / str(seed)
            laid_out(story, place)
            found = read_crashes("pc", log_files(place), str(place))
            if story.onset is None or found.onset is None:
                continue
            failing += 1
            bounds = [read_time(each)[0] for each in (found.onset.from_, found.onset.to)]
            held += bounds[0] - 1 <= story.onset <= bounds[1] + 1
            if story.names:
                named += 1
                first += story.guilty in found.suspects[0].change
        self.assertGreater(named, 8)
        self.assertGreater(failing, 12)
        self.assertGreaterEqual(first / named, 0.9)
        self.assertGreaterEqual(held / failing, 0.95)

    def test_both_halves_are_said(self):
        story = next(story for story in map(records, range(40)) if story.names)
        folder = self.folder / "var/log"
        folder.mkdir(parents=True)
        for name, data in story.files.items():
            (folder / name).write_bytes(data)
        shown = self.run_here("crashes", folder)
        self.assertIn(f"{story.crashes} crashes written down, {story.crashes * 2} times", shown)
        told = self.json_here("crashes", folder)
        self.assertEqual(told["written"], story.crashes * 2)
        self.assertRegex(told["suspects"][0]["says"], "crashes name|the crash names")


if __name__ == "__main__":
    unittest.main()
