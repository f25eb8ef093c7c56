"""Copies of failing drives: what matters first, nothing twice, nothing lost."""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import zlib
from itertools import pairwise
from pathlib import Path
from random import Random

import msgspec

from mending.disk.files import open_files
from mending.disk.layout import survey
from mending.imaging.copying import copy_into
from mending.knowledge.families import wishes_of
from mending.source import MemorySource, open_source
from mending.source.imaging import (
    CELL_BYTES,
    ByteRanges,
    PieceSums,
    ReadingHeader,
    ReadingRecord,
    load_record,
    open_image,
    record_path,
)
from tests.flaky_drive import FlakyDrive
from tests.support import PROGRAM, InFolder, needs, needs_mounts, sha, tool, trace_file

MIB = 1 << 20
START = 2048 * 512
PERSONAL, OTHER = 120, 60


def made_disk(folder, mib=96):
    """A disk with a table and an ext volume of many files, some of persons."""
    path, tree = folder / "drive.img", folder / "tree"
    random = Random(11)
    for number in range(PERSONAL):
        place = tree / f"home/purser/letters-{number % 7}/letter-{number}.odt"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(random.randbytes(random.randrange(5000, 150_000)))
    for number in range(OTHER):
        place = tree / f"usr/lib/part-{number % 5}/lib-{number}.so"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(random.randbytes(random.randrange(5000, 600_000)))
    with path.open("wb") as file:
        file.truncate(mib * MIB)
    tool("sfdisk", "-q", path, stdin="label: dos\nstart=2048,type=83\n")
    words = ("mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-d", tree)
    tool(*words, "-E", f"offset={START}", path, f"{(mib - 2) * 256}")
    return path


def in_use(path):
    """What an independent program says is in use: of the volume, and the table."""
    volume = path.with_suffix(".volume")
    with path.open("rb") as file:
        file.seek(START)
        volume.write_bytes(file.read())
    told = tool("dumpe2fs", volume)
    blocks = int(re.search(r"Block count:\s+(\d+)", told).group(1))
    free = set()
    for row in re.findall(r"Free blocks: ([0-9, -]+)", told):
        for part in filter(None, row.replace(" ", "").split(",")):
            first, _, last = part.partition("-")
            free |= set(range(int(first), int(last or first) + 1))
    found = ByteRanges()
    found.add(0, 512)
    for block in range(blocks):
        if block not in free:
            found.add(START + block * 4096, START + (block + 1) * 4096)
    return found


@needs("mke2fs", "sfdisk", "dumpe2fs")
class Flaky(InFolder):
    """In the process of the test, with a clock that is made up."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.disk = made_disk(cls.home)
        cls.data = cls.disk.read_bytes()
        cls.used = in_use(cls.disk)

    def copy(self, drive, first=(), effort=3):
        header = ReadingHeader(drive=drive.path, bytes=drive.size, sector=512, serial=drive.serial)
        growing = open_image(str(self.folder / "copy.img"), header)
        try:
            return copy_into(
                drive, growing, wishes_of(first), effort, self.told(drive, growing), drive.clock
            )
        finally:
            growing.close()

    def told(self, drive, growing):
        def note(now):
            drive.says.append(now.says)
            safe = growing.record.safe
            kept = sum(safe.count_inside(*part) for part in self.used)
            drive.curve.append((drive.asked, kept))

        return note

    def check_image(self, drive, lost=()):
        made = (self.folder / "copy.img").read_bytes()
        self.assertEqual(len(made), len(self.data))
        at = 0
        for first, last in [*sorted(lost), (len(made), len(made))]:
            self.assertEqual(made[at:first], self.data[at:first])
            at = last
        given, twice = ByteRanges(), 0
        for start, end in drive.given:
            twice += given.count_inside(start, end)
            given.add(start, end)
        self.assertLessEqual(twice, 8 * 512)  # sectors that show whether the drive still answers

    def test_a_sound_drive_what_is_in_use_first(self):
        drive = FlakyDrive(self.data)
        done = self.copy(drive)
        self.assertEqual((done.unread, done.stopped, done.unread_files), (0, None, ()))
        self.check_image(drive)
        total = self.used.total
        reached = next(asked for asked, kept in drive.curve if kept >= total * 0.95)
        self.assertIn("files asked for: 100% safe", drive.says)
        self.assertRegex(" ".join(drive.says), r"other files: \d+% safe.*free space: \d+% safe")
        self.assertLessEqual(reached, total * 1.10)
        wanted, others = done.parts
        self.assertEqual((wanted.files, others.files), (PERSONAL, OTHER))

    def test_everything_that_answers_is_read_and_what_matters_comes_first(self):
        random = Random(4)
        bad = [(at, at + 512 * random.randrange(1, 40)) for at in self.places(random, 25)]
        slow = [(at, at + 300_000) for at in self.places(random, 6)]
        drive = FlakyDrive(self.data, bad=bad, slow=slow)
        done = self.copy(drive)
        lost = ByteRanges()
        for first, last in bad:
            lost.add(first, last)
        self.assertEqual(done.unread, lost.total)
        self.check_image(drive, list(lost))
        total = self.used.total
        reached = next(asked for asked, kept in drive.curve if kept >= total * 0.95)
        self.assertLessEqual(reached, total * 1.10)
        record = load_record(str(self.folder / "copy.img"))
        self.assertEqual(list(record.safe.gaps(0, drive.size)), list(lost))

    def places(self, random, count):
        """Sectors anywhere behind the structures at the start."""
        found = [random.randrange(8 * MIB, len(self.data) - MIB) // 512 * 512 for _ in range(count)]
        return sorted({at // (64 * 1024) * (64 * 1024) + 4096 for at in found})

    def test_files_of_persons_come_before_others_and_what_is_asked_before_them(self):
        drive = FlakyDrive(self.data, gone_after=14 * MIB)
        done = self.copy(drive)
        self.assertIn("does not answer", done.stopped)
        wanted, others = done.parts
        self.assertGreater(wanted.safe_bytes / wanted.bytes, 0.9)
        self.assertLess(others.safe_bytes / others.bytes, 0.5)
        shutil.rmtree(self.folder)
        self.folder.mkdir()
        drive = FlakyDrive(self.data, gone_after=14 * MIB)
        wanted, others = self.copy(drive, (".so",)).parts
        self.assertEqual(wanted.files, OTHER)
        self.assertGreater(wanted.safe_bytes / wanted.bytes, others.safe_bytes / others.bytes)

    def test_what_fails_twice_and_then_answers_is_had(self):
        twice = [(at, at + 4096) for at in self.places(Random(9), 12)]
        drive = FlakyDrive(self.data, twice=twice)
        done = self.copy(drive)
        self.assertEqual(done.unread, 0)
        self.check_image(drive)
        drive = FlakyDrive(self.data, twice=twice)
        (self.folder / "copy.img").unlink()
        record_path(str(self.folder / "copy.img")).unlink()
        self.assertGreater(self.copy(drive, effort=0).unread, 0)

    def test_a_drive_that_vanishes_is_gone_on_with_and_nothing_is_held_against_it(self):
        bad = [(40 * MIB, 40 * MIB + 8192)]
        given = []
        for gone_after in (600_000, 3 * MIB, 11 * MIB, 40 * MIB, None):
            drive = FlakyDrive(self.data, bad=bad, gone_after=gone_after)
            done = self.copy(drive)
            self.assertEqual(done.stopped is None, gone_after is None)
            given += drive.given
        self.assertEqual(done.unread, 8192)
        drive.given = given
        self.check_image(drive, bad)

    def test_a_broken_folder_hides_its_files_until_it_comes(self):
        """The sector of a folder fails twice: its files are found on a later walk."""
        source = MemorySource(self.data)
        volume = survey(source).volumes[0]
        files = open_files(source, volume)
        (start, length), *_ = files.extents(files.find("/home/purser/letters-0"))
        at = volume.offset + start
        drive = FlakyDrive(self.data, twice=[(at, at + length)])
        done = self.copy(drive)
        self.assertEqual((done.unread, done.parts[0].files), (0, PERSONAL))

    def test_an_image_knows_what_was_never_read(self):
        drive = FlakyDrive(self.data, gone_after=200_000)
        self.copy(drive)
        path = self.folder / "copy.img"
        with open_source(str(path)) as image:
            self.assertEqual(image.read(0, 512).data, self.data[:512])
            with self.assertRaises(Exception) as caught:
                image.read(60 * MIB, 512)
        self.assertIn("never read from the drive", caught.exception.says)
        self.assertNotEqual(trace_file(path).verdict, "no-fault-found")


class Records(unittest.TestCase):
    def record(self, *rows):
        with tempfile.TemporaryDirectory() as folder:
            image = f"{folder}/x.img"
            header = ReadingHeader(drive="d", bytes=9000, sector=512, serial="")
            lines = [msgspec.json.encode(header)]
            lines += [
                json.dumps(row).encode() if not isinstance(row, bytes) else row for row in rows
            ]
            record_path(image).write_bytes(b"\n".join(lines) + b"\n")
            return load_record(image)

    def test_only_what_was_flushed_counts_and_the_rest_waits_to_be_read_again(self):
        rows = (["safe", 0, 1024, 5], ["flushed"], ["safe", 512, 512, 7], b'["safe", 10')
        record = self.record(*rows)
        self.assertEqual(list(record.safe), [(0, 512)])
        self.assertEqual((list(record.sums), record.unsure), ([], [(512, 1024, 7)]))
        self.assertEqual(list(self.record(*rows, ["flushed"]).safe), [(0, 1024)])

    def test_a_record_read_at_once_is_one_read_row_by_row(self):
        """Every sum that is left is one of the bytes that are there."""
        for seed in range(300):
            random, disk, rows = Random(seed), bytearray(9000), []
            one_by_one = ReadingRecord(ReadingHeader(drive="d", bytes=9000, sector=512, serial=""))
            for _ in range(random.randrange(1, 25)):
                kind, at = random.choice(("safe", "safe", "hole", "lost", "failed")), 0
                at, length = random.randrange(8500), random.randrange(1, 500)
                row = ["safe" if kind == "hole" else kind, at, length]
                if kind == "safe":
                    disk[at : at + length] = random.randbytes(length)
                    row.append(zlib.crc32(disk[at : at + length]))
                row += [random.randrange(10)] if kind == "failed" else []
                rows.append(row)
                one_by_one.apply(row)
            at_once = self.record(*rows, ["flushed"])
            self.assertEqual(list(at_once.safe), list(one_by_one.safe))
            self.assertEqual(list(map(list, at_once.failed)), list(map(list, one_by_one.failed)))
            self.assertLessEqual(len(list(one_by_one.sums)), len(list(at_once.sums)))
            for start, end, total in at_once.sums:
                self.assertEqual(zlib.crc32(disk[start:end]), total, (seed, start, end))

    def test_any_bytes_are_a_record_or_our_own_error(self):
        random = Random(1)
        for _ in range(200):
            rows = [random.randbytes(random.randrange(40)) for _ in range(5)]
            rows += [
                random.choice(([], {}, ["safe"], ["safe", -1, 2], ["failed", 1, 2, 99], 7, None))
            ]
            record = self.record(*rows)
            self.assertEqual(record.safe.total, 0)

    def test_what_is_lost_is_not_safe(self):
        record = self.record(
            ["safe", 0, 4096, 7], ["safe", 4096, 512], ["lost", 512, 1024], ["flushed"]
        )
        self.assertEqual(list(record.safe), [(0, 512), (1536, 4608)])
        self.assertEqual(list(record.sums), [])  # of the piece as a whole nothing is known now

    def test_sums_of_pieces_are_those_of_their_bytes(self):
        random, data = Random(8), Random(9).randbytes(3000) + bytes(1000)
        for _ in range(40):
            sums, cuts = PieceSums(), sorted({0, 4000, *random.sample(range(4000), 9)})
            pieces = list(pairwise(cuts))
            random.shuffle(pieces)
            for start, end in pieces[1:]:
                sums.add(start, end, zlib.crc32(data[start:end]))
            for start, end, total in sums:
                self.assertEqual(total, zlib.crc32(data[start:end]))
            gap = pieces[0]
            self.assertEqual(len(list(sums)), 1 + (gap[0] > 0 and gap[1] < 4000))
            sums.add(*gap, zlib.crc32(data[slice(*gap)]))
            self.assertEqual(list(sums), [(0, 4000, zlib.crc32(data))])
            first = random.randrange(3000)
            sums.add(first, first + 10, 5)  # read anew: of what lay around nothing is known
            self.assertEqual(list(sums), [(first, first + 10, 5)])

    def test_pieces_join_within_their_cell(self):
        sums, half = PieceSums(), CELL_BYTES // 2
        for start in (3 * half, 0, half, 2 * half):
            sums.add(start, start + half, zlib.crc32(bytes(half)))
        whole = zlib.crc32(bytes(CELL_BYTES))
        expected = [(0, CELL_BYTES, whole), (CELL_BYTES, 2 * CELL_BYTES, whole)]
        self.assertEqual(list(sums), expected)

    def test_ranges_join_and_count(self):
        random, ranges, truth = Random(6), ByteRanges(), set()
        for _ in range(300):
            start = random.randrange(400)
            end = start + random.randrange(20)
            if random.random() < 0.7:
                ranges.add(start, end)
                truth |= set(range(start, end))
            else:
                ranges.remove(start, end)
                truth -= set(range(start, end))
            first = random.randrange(400)
            last = first + random.randrange(50)
            wanted = set(range(first, last))
            self.assertEqual(ranges.total, len(truth))
            self.assertEqual(ranges.count_inside(first, last), len(wanted & truth))
            self.assertEqual(ranges.touches(first, last), bool(wanted & truth))
            self.assertEqual(ranges.covers(first, last), wanted <= truth)
            gaps = {byte for part in ranges.gaps(first, last) for byte in range(*part)}
            self.assertEqual(gaps, wanted - truth)


@needs("mke2fs", "sfdisk")
class Command(InFolder):
    def test_a_sound_image_and_what_is_refused(self):
        path = made_disk(self.folder, mib=64)
        before = sha(path)
        out = self.folder / "out.img"
        done = self.json_here("copy", path, out, "--check")
        self.assertEqual((done["unread"], done["bytes"]), (0, path.stat().st_size))
        self.assertEqual((sha(out), sha(path)), (before, before))
        self.assertLess(out.stat().st_blocks * 512, path.stat().st_size * 0.9)
        again = self.json_here("copy", path, out)
        self.assertEqual(again["asked"], 0)
        other = self.folder / "other.img"
        other.write_bytes(b"mine")
        self.assertIn(
            "no copy that was begun", self.json_here("copy", path, other, expect=4)["says"]
        )
        self.assertEqual(other.read_bytes(), b"mine")
        small = self.folder / "small.img"
        shutil.copy(path, small)
        os.truncate(small, 32 * MIB)
        self.assertIn("another drive", self.json_here("copy", small, out, expect=4)["says"])
        self.run_here("copy", path, self.folder / "x.img", "--first", "poems", expect=2)
        self.assertFalse((self.folder / "x.img").exists())
        self.run_here("copy", self.folder / "none.img", out, expect=3)

    def test_an_image_that_changed_is_noticed_and_read_anew(self):
        path, out = made_disk(self.folder, mib=64), self.folder / "out.img"
        self.run_here("copy", path, out)
        sound = self.json_here("copy", out, "--verify", "--check")
        self.assertEqual((sound["lost"], sound["unread"]), ([], 0))
        self.assertEqual(sound["checked"] + sound["without_sum"], 64 * MIB)
        whole, record = out.read_bytes(), load_record(str(out))
        random, hit = Random(4), set()
        ranges = [(start, end) for start, end, _ in record.sums]
        for _ in range(5):
            start, end = random.choice(ranges)
            place = random.randrange(start, end)
            hit.add((start, end - start))
            with out.open("r+b") as file:
                file.seek(place)
                file.write(bytes([whole[place] ^ 1 << random.randrange(8)]))
        found = self.json_here("copy", out, "--verify", "--check", expect=1)
        self.assertEqual({(lost["offset"], lost["bytes"]) for lost in found["lost"]}, hit)
        shown = " ".join(self.run_here("copy", out, "--verify").split())  # lines may be wrapped
        self.assertIn(f"{path} {out} --verify", shown)
        self.assertEqual(self.json_here("copy", path, out)["asked"], 0)
        again = self.json_here("copy", path, out, "--verify")
        self.assertEqual(again["asked"], sum(length for _, length in hit))
        self.assertEqual(out.read_bytes(), whole)
        os.truncate(out, 20 * MIB)
        cut = self.json_here("copy", out, "--verify")
        self.assertGreater(sum(lost["bytes"] for lost in cut["lost"]), MIB)
        self.json_here("copy", path, out, "--verify")
        self.assertEqual(out.read_bytes(), whole)
        self.json_here("copy", path, "--verify", expect=3)
        self.json_here("copy", path, expect=2)

    @needs_mounts
    def test_killed_fifty_times_it_goes_on_and_reads_nothing_twice(self):
        path, out, log = made_disk(self.folder), self.folder / "out.img", self.folder / "log"
        bad = [[30 * MIB, 30 * MIB + 2048], [55 * MIB + 512, 55 * MIB + 20_000]]
        (self.folder / "map").write_text(json.dumps({"bad": bad, "slow": [[20 * MIB, 21 * MIB]]}))
        shown = self.folder / "shown"
        shown.mkdir()
        words = [sys.executable, "-m", "tests.flaky_drive", path, shown, log, self.folder / "map"]
        server = subprocess.Popen(list(map(str, words)))
        try:
            while not (shown / "drive").exists():
                time.sleep(0.05)
            random, kills, noted = Random(50), 0, []
            copy = [str(PROGRAM), "copy", str(shown / "drive"), str(out)]
            while kills < 50:
                program = subprocess.Popen(
                    copy, stdout=subprocess.DEVNULL, env={**os.environ, **self.env}
                )
                time.sleep(random.uniform(0.3, 0.75))
                if program.poll() is None:
                    program.send_signal(signal.SIGKILL)
                kills += 1
                program.wait()
                record = load_record(str(out))
                if record is not None:
                    noted.append((len(log.read_text().splitlines()), record.safe))
            done = self.json_here("copy", shown / "drive", out)
        finally:
            tool("umount", shown)
            server.wait()
        lost = sum(-(-end // 512) * 512 - start for start, end in bad)
        self.assertEqual(done["unread"], lost)
        made, whole = out.read_bytes(), path.read_bytes()
        for start, end in bad:
            end = -(-end // 512) * 512
            made = made[:start] + whole[start:end] + made[end:]
        self.assertEqual(made, whole)
        self.check_asked(log.read_text().splitlines(), noted)

    def check_asked(self, rows, noted):
        """What was noted as safe when a kill came is not asked for again, but for sectors that show
        whether the drive still answers.
        """
        asked = [tuple(map(int, row.split())) for row in rows]
        again = 0
        for count, safe in noted:
            for start, end in asked[count:]:
                if safe.touches(start, end) and end - start > 4096:
                    again += safe.count_inside(start, end)
        self.assertEqual(again, 0)


if __name__ == "__main__":
    unittest.main()
