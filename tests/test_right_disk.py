"""The right disk and the right way back: cases whose device's name changes hands, copies of images
and cases, evidence that this machine did not attach, media that are full or pulled.
"""

import contextlib
import io
import json
import os
import shutil
import signal
import subprocess
import time
import unittest
import zipfile
import zlib
from contextlib import redirect_stdout
from pathlib import Path
from random import Random
from unittest import mock

from mending.case import load_case
from mending.cli import program
from mending.model import InputError
from mending.repair.boot import own_code
from mending.source.imaging import load_record, record_path
from mending.workshop import BIOS_FAULTS, bios_disk, uefi_disk
from tests.power_cuts import Recorder, content, states, tree_of
from tests.support import PROGRAM, InFolder, needs, patch, run, sha, tool

MIB = 1 << 20
NEEDS_LOOPS = unittest.skipUnless(
    os.geteuid() == 0 and Path("/dev/loop-control").exists(), "needs root and loop devices"
)
TYPED = "mending add"


class Disks(InFolder):
    def disk(self, name="desk.img", fault="blank-boot-code", draw=bios_disk):
        draft = draw(own_code()) if draw is bios_disk else draw()
        if fault:
            BIOS_FAULTS[fault](draft)
        path = self.folder / name
        draft.save(path)
        return path

    def loop(self, image, *words):
        """A loop device over an image, gone at the end."""
        device = tool("losetup", "--show", *(words or ["-f"]), image).strip()
        self.addCleanup(subprocess.run, ["losetup", "-d", device], capture_output=True)
        return device

    def said(self, *words, expect=0):
        return " ".join(self.run_here(*words, expect=expect).split())

    def opened(self, disk, name="ferry"):
        case = self.folder / name
        self.run_here("open", case, "--disk", disk, "--quiet")
        return case


@NEEDS_LOOPS
@needs("losetup")
class Devices(Disks):
    """Names of devices that go to whatever is plugged in next."""

    def setUp(self):
        super().setUp()
        self.first, self.second = self.disk("a.img"), self.disk("b.img", draw=uefi_disk, fault="")
        size = max(self.first.stat().st_size, self.second.stat().st_size)
        for path in (self.first, self.second):
            os.truncate(path, size)
        self.device = self.loop(self.first)
        self.case = self.opened(self.device)

    def swap(self, image):
        tool("losetup", "-d", self.device)
        tool("losetup", self.device, image)

    def test_another_disk_under_the_name_is_neither_read_nor_written(self):
        self.swap(self.second)
        before, record = sha(self.second), (self.case / "record.jsonl").read_bytes()
        for words in (
            ("mend", self.case, "--all", "--yes"),
            ("mend", self.case, "boot-code", "--yes"),
            ("trace", self.case),
            ("trace", self.case, "--json"),
            ("undo", self.case),
            ("rehearse", self.case),
            ("search", self.case),
            ("keep", self.case, "-o", self.folder / "k.zip"),
            ("gather", self.case, "-o", self.folder / "g.zip"),
            ("crashes", self.case),
            ("compare", self.case, self.case),
        ):
            with self.subTest(words[0]):
                said = self.said(*words, expect=4)
                self.assertIn("is not the disk of", said)
                self.assertIn(TYPED, said)
        self.assertEqual(sha(self.second), before)
        self.assertEqual((self.case / "record.jsonl").read_bytes(), record)
        self.run_here("add", self.case, self.device)  # the PC has another disk now
        self.assertIn("uefi", self.said("trace", self.case))

    def test_it_is_found_again_under_another_name_and_mended_there(self):
        self.swap(self.second)
        elsewhere = self.loop(self.first)
        self.assertIn(f"it is {elsewhere} now", self.said("trace", self.case))
        before = sha(self.second)
        self.run_here("mend", self.case, "boot-code", "--yes")
        self.assertEqual(sha(self.second), before)
        self.run_here("undo", self.case)
        self.assertEqual(sha(self.second), before)

    def test_pulled_it_is_said_to_be_away(self):
        tool("losetup", "-d", self.device)
        self.assertIn("is not there", self.said("mend", self.case, "--all", "--yes", expect=3))
        self.run_here("plan", self.case)  # what needs no disk goes on

    def test_a_lasting_name_leads_to_it(self):
        place = Path("/dev/disk/by-id")
        made = not place.exists()
        place.mkdir(parents=True, exist_ok=True)
        link = place / f"ferry-test-{os.getpid()}"
        link.symlink_to(self.device)
        try:
            case = self.opened(self.device, "second")
            outside = load_case(case).state.attached.outside
            self.assertEqual(outside.lasting, str(link))
        finally:
            link.unlink()
            if made:
                place.rmdir()
                with contextlib.suppress(OSError):
                    place.parent.rmdir()


class Images(Disks):
    def test_used_since_is_asked_for_once_and_a_repair_is_no_use(self):
        disk = self.disk()
        case = self.opened(disk)
        self.run_here("mend", disk, "boot-code", "--yes")  # past the case: our own writes are known
        self.run_here("trace", case)
        self.run_here("undo", disk)
        self.run_here("mend", case, "boot-code", "--yes")
        self.run_here("trace", case)
        known = load_case(case).state.attached.outside.identity
        place = next(each for each in known.ranges if not each.identifier and each.offset > MIB)
        patch(disk, place.offset + place.length - 9, b"was used")
        said = self.said("trace", case, expect=4)
        self.assertIn("changed since", said)
        self.run_here("add", case, disk)
        self.run_here("trace", case)
        self.assertIsNotNone(load_case(case).state.found)

    def test_one_that_was_moved_is_named_again_and_keeps_what_was_found(self):
        disk = self.disk()
        os.truncate(disk, disk.stat().st_size + 7 * 512)  # no other disk here has this size
        case = self.opened(disk)
        self.run_here("mend", case, "boot-code", "--yes")
        moved = disk.rename(self.folder / "moved.img")
        self.assertIn(TYPED, self.said("trace", case, expect=3))
        self.run_here("add", case, moved)
        state = load_case(case).state
        self.assertEqual((len(state.undo_points), state.found.failing_phase), (1, "boot-record"))
        self.run_here("undo", case)
        self.assertIn("blank", self.said("trace", case))

    def test_a_copied_case_and_one_from_elsewhere_touch_nothing_outside(self):
        disk = self.disk()
        case = self.opened(disk)
        before = sha(disk)
        copied = self.folder / "copied"
        shutil.copytree(case, copied)
        for words in (("mend", copied, "--all", "--yes"), ("trace", copied)):
            self.assertIn("was not attached to the case", self.said(*words, expect=4))
        self.assertEqual(sha(disk), before)
        self.run_here("add", copied, disk)
        self.run_here("trace", copied)
        moved = case.rename(self.folder / "elsewhere")  # moving is not copying
        self.run_here("trace", moved)
        env = {**self.env, "XDG_DATA_HOME": str(self.folder / "another machine")}
        said = run("trace", moved, env=env, expect=4)
        self.assertIn("attached", said)

    def test_an_event_that_names_a_path_is_no_way_to_read_it(self):
        secret = self.folder / "secret.log"
        secret.write_text(
            "Mar  2 08:00:00 quay kernel: Kernel panic - not syncing: harbour secret\n"
        )
        case = self.folder / "hostile"
        self.run_here("open", case, "--quiet")
        event = {"kind": "added", "at": "2026-03-02T08:00:00+00:00", "path": str(secret)}
        for sort in ("records", "text", "variables", "disk"):
            body = json.dumps(event | {"sort": sort, "bytes": 9, "copy": None}).encode()
            line = b'{"sum":"%08x","event":%s}\n' % (zlib.crc32(body), body)
            (case / "record.jsonl").write_bytes(line)
            for words in (("crashes", case), ("trace", case), ("report", case)):
                if words[0] != "trace" or sort == "disk":
                    expect = None if sort in {"disk", "variables"} else 4
                    said = self.run_here(*words, expect=expect)
                    self.assertNotIn("harbour secret", said)

    def test_nothing_but_plain_files_is_opened_in_and_beside_what_is_read(self):
        """A FIFO or a link in any place of a case, an undo point, beside an image: no run waits."""
        disk = self.disk()
        case = self.opened(disk)
        self.run_here("mend", case, "boot-code", "--yes")
        point = next((case / "undo").iterdir())
        places = [case / name for name in ("case.json", "record.jsonl", "lock", "holder.json")]
        places += [point / name for name in ("point.json", "state.json", "seal", "before-0.bin")]
        places += [record_path(str(disk)), case / "evidence", case / "undo"]
        runs = (("trace", case), ("undo", case), ("report", case), ("saw", case, "logo=shown"))
        for place in places:
            for make in (os.mkfifo, lambda at: at.symlink_to(self.folder / "elsewhere")):
                kept = place.with_name(f"{place.name}.kept")
                if place.exists():
                    place.rename(kept)
                make(place)
                for words in runs if make is os.mkfifo else runs[:1]:
                    with self.subTest(place=place.name, run=words[0]):
                        began = time.monotonic()
                        self.run_here(*words, expect=None)
                        self.assertLess(time.monotonic() - began, 60)
                place.unlink()
                if kept.exists():
                    kept.rename(place)
        self.run_here("trace", case)


class UndoPoints(Disks):
    def test_a_copy_that_is_not_mended_uses_up_no_point(self):
        disk = self.disk()
        first, copy = sha(disk), self.folder / "copy.img"
        shutil.copy(disk, copy)
        self.run_here("mend", disk, "boot-code", "--yes")
        name = self.json_here("undo", disk, "--list")["points"][0]["id"]
        self.assertEqual(self.json_here("undo", copy, "--list")["points"], [])
        self.assertIn("nothing to undo", self.said("undo", copy, expect=4))
        self.assertIn("nothing to undo here", self.said("undo", copy, name, expect=4))
        self.run_here("undo", copy, "--drop", "--yes", expect=4)
        self.assertEqual(self.json_here("undo", disk, "--list")["points"][0]["state"], "done")
        self.run_here("undo", disk)
        self.assertEqual(sha(disk), first)

    def test_a_mended_copy_has_a_state_of_its_own(self):
        disk = self.disk()
        first, copy = sha(disk), self.folder / "copy.img"
        self.run_here("mend", disk, "boot-code", "--yes")
        shutil.copy(disk, copy)
        self.run_here("undo", copy)
        self.assertEqual(sha(copy), first)
        self.assertNotEqual(sha(disk), first)
        self.run_here("undo", copy, "--drop", "--yes", expect=4)  # the original still needs it
        self.run_here("undo", disk)
        self.assertEqual(sha(disk), first)
        self.run_here("undo", disk, "--redo")
        self.assertEqual(self.json_here("undo", disk, "--list")["points"][0]["state"], "done")
        self.assertEqual(self.json_here("undo", copy, "--list")["points"][0]["state"], "undone")
        self.run_here("undo", disk)
        self.run_here("undo", disk, "--drop", "--yes")

    def test_what_was_put_back_counts_where_its_note_fails(self):
        disk = self.disk()
        first = sha(disk)
        self.run_here("mend", disk, "boot-code", "--yes")
        point = next((self.folder / "data/mending/undo").iterdir())
        failing = mock.patch(
            "mending.repair.journal.write_durably", side_effect=InputError("full.")
        )
        with failing, mock.patch.dict(os.environ, self.env), redirect_stdout(io.StringIO()) as out:
            program.main(["undo", str(disk)], standalone_mode=False)
        self.assertIn("could not be noted", " ".join(out.getvalue().split()))
        self.assertEqual(sha(disk), first)
        self.assertIn("done", (point / "state.json").read_text())


class Copies(Disks):
    """Copies onto media that are full or pulled, and records that are hurt."""

    def drive(self, mib=40):
        path = self.folder / "drive.img"
        path.write_bytes(Random(3).randbytes(mib * MIB))
        patch(path, 0, bytes(446) + bytes(64) + b"\x55\xaa")
        return path

    @NEEDS_LOOPS
    @needs("losetup", "mkfs.ext4")
    def test_what_a_full_medium_lost_is_read_again_and_counts_only_then(self):
        drive, small = self.drive(), self.folder / "small"
        home = self.folder / "home"
        home.mkdir()
        tool("mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", home)
        self.addCleanup(subprocess.run, ["umount", "-l", home], capture_output=True)
        backing = home / "medium"  # a file system over a device over a file system that is full
        with backing.open("wb") as file:
            file.truncate(64 * MIB)
        device = self.loop(backing)
        tool("mkfs.ext4", "-q", "-E", "nodiscard", "-O", "^has_journal", device)
        small.mkdir()
        tool("mount", device, small)
        self.addCleanup(subprocess.run, ["umount", "-l", small], capture_output=True)
        out = small / "copy.img"
        said = self.said("copy", drive, out, expect=3)
        self.assertIn("goes on where it was", said)
        tool("mount", "-o", "remount,size=120m", home)
        result = None
        for _ in range(4):  # the first flushes may still tell of what was lost
            done = subprocess.run(
                [PROGRAM, "copy", drive, out, "--json"],
                env={**os.environ, **self.env},
                capture_output=True,
                text=True,
                timeout=120,
            )
            self.assertNotIn("Traceback", done.stderr)
            if done.returncode == 0:
                result = json.loads(done.stdout)
                break
        self.assertEqual(result["unread"], 0)
        tool("umount", small)
        tool("mount", device, small)
        self.assertEqual(sha(out), sha(drive))

    def test_a_full_disk_is_one_sentence_and_the_copy_goes_on(self):
        drive = self.drive(8)
        out = self.folder / "copy.img"
        words = f"ulimit -f {3 * 2048}; trap '' XFSZ; exec {PROGRAM} copy {drive} {out}"
        done = subprocess.run(
            ["bash", "-c", words],
            capture_output=True,
            text=True,
            env={**os.environ, **self.env},
            timeout=120,
        )
        self.assertEqual(done.returncode, 3, done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(self.json_here("copy", drive, out)["unread"], 0)
        self.assertEqual(sha(out), sha(drive))

    def test_a_record_that_is_hurt_or_gone_says_the_way_on(self):
        drive, out = self.drive(2), self.folder / "copy.img"
        record = record_path(str(out))
        for data in (b"", b'{"mending":"reading-rec', b"[" * 100_000, b"\n" * 5_000_000):
            record.write_bytes(data)
            out.write_bytes(bytes(512))
            self.assertIn("begins anew", self.said("copy", drive, out, expect=3))
        record.unlink()
        out.unlink()
        self.run_here("copy", drive, out)
        out.unlink()  # the image is gone, and its record says that all is safe
        self.assertEqual(self.json_here("copy", drive, out)["safe"], drive.stat().st_size)
        self.assertEqual(sha(out), sha(drive))
        other = self.folder / "other.img"
        other.write_bytes(Random(4).randbytes(2 * MIB))
        self.assertIn("is not the drive", self.said("copy", other, out, expect=4))
        self.assertEqual(sha(out), sha(drive))

    def test_a_long_record_is_read_in_a_time_that_grows_with_it(self):
        drive, out = self.drive(1), self.folder / "copy.img"
        self.run_here("copy", drive, out)
        lines = record_path(str(out)).read_bytes().split(b"\n")
        random = Random(5)
        rows = [b'["safe",%d,512,7]' % (random.randrange(2000) * 512 % MIB) for _ in range(400_000)]
        record_path(str(out)).write_bytes(b"\n".join([lines[0], *rows, b'["flushed"]', b""]))
        began = time.process_time()
        self.assertIsNotNone(load_record(str(out)))
        self.assertLess(time.process_time() - began, 20)


class Cuts(Disks):
    """A power cut behind every call that changes a medium, and kills."""

    def recorded(self, *words):
        data = self.folder / "data"
        data.mkdir(exist_ok=True)
        before = tree_of(data, self.folder / "work")
        with (
            mock.patch.dict(os.environ, self.env),
            redirect_stdout(io.TextIOWrapper(io.BytesIO())),
            Recorder(data, self.folder / "work") as recorder,
        ):
            program.main([str(word) for word in words], standalone_mode=False)
        return recorder.calls, before

    def put(self, state, name):
        """A folder of a state, put on this machine; None where it is not there."""
        top, place = str(self.folder.resolve() / "work"), self.folder / "found"
        shutil.rmtree(place, ignore_errors=True)
        place.mkdir()
        for path, held in state.items():
            if path.startswith(f"{top}/"):
                there = place / path[len(top) + 1 :]
                there.parent.mkdir(parents=True, exist_ok=True)
                if held is None:
                    there.mkdir(exist_ok=True)
                else:
                    there.write_bytes(content(held))
        return place / name if (place / name).exists() else None

    def test_a_case_that_is_opened_or_written_to_is_whole_in_every_state(self):
        work = self.folder / "work"
        work.mkdir()
        steps = (
            ("open", work / "quay", "--fact", "form=desktop", "--quiet"),
            ("saw", work / "quay", "logo=shown", "beeps=none"),
            ("tried", work / "quay", "restart-once", "not-mended"),
            ("started", work / "quay", "no"),
        )
        for number, words in enumerate(steps):
            calls, before = self.recorded(*words)
            found = set()
            for _, name, state in states(calls, before):
                case = self.put(state, "quay")
                with self.subTest(words[0], state=name):
                    found.add(None if case is None else len(load_case(case).events))
            self.assertEqual(found, {number or None, number + 1})

    def test_killed_at_any_moment_what_is_written_is_there_whole_or_not_at_all(self):
        disk, random = self.disk(), Random(8)
        for words, name in (
            (("keep", disk, "--anyway", "-o"), "kept.zip"),
            (("gather", disk, "-o"), "gathered.zip"),
        ):
            whole = 0
            for number in range(6):
                out = self.folder / f"{number}-{name}"
                done = subprocess.Popen(
                    [str(PROGRAM), *map(str, words), str(out)],
                    env={**os.environ, **self.env},
                    stdout=subprocess.DEVNULL,
                )
                time.sleep(random.uniform(0.2, 1.6))
                done.send_signal(signal.SIGKILL)
                done.wait()
                if out.exists():
                    whole += 1
                    with zipfile.ZipFile(out) as archive:
                        self.assertIsNone(archive.testzip())
            out = self.folder / f"last-{name}"
            left = self.folder / f".{out.name}.0123456789abcdef.new"
            left.write_bytes(b"left behind")
            os.utime(left, (0, 0))
            self.run_here(*words, out)
            self.assertFalse(left.exists())


if __name__ == "__main__":
    unittest.main()
