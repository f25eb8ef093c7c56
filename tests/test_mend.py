"""Repairs: what they write, what they refuse, and that no failure or power cut leaves a target
half-way.
"""

import contextlib
import fcntl
import json
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import msgspec

from mending.model import (
    InputError,
    MendingError,
    Patch,
    ReadError,
    RefusedError,
    RepairFailedError,
    RepairId,
)
from mending.repair.base import MendSettings, Proposal
from mending.repair.boot import own_code
from mending.repair.journal import Allowed, Journal
from mending.repair.run import carry_out, examine, preview
from mending.source import FaultyMemory, MemorySource, PowerCutError
from mending.workshop import make_sample, samples
from tests.support import GRUB_FILES, SECTOR, InFolder, ids, needs, patch, sha, tool, trace_file

NOW = "2026-03-02T08:10:00+00:00"
SYSLINUX = ("sfdisk", "mkfs.fat", "syslinux")
GRUB = ("sfdisk", "mke2fs", "grub-mkimage", GRUB_FILES / "boot.img")


def planned(source, repair=RepairId.BOOT_CODE):
    """A repair of a disk in memory, planned."""
    settings = MendSettings()
    return preview(repair, examine(source, settings), settings)


class BootCode(InFolder):
    @needs(*SYSLINUX)
    def test_on_an_intact_table_it_writes_440_bytes_and_undo_gives_the_image_back(self):
        path = self.fat_started_by_syslinux()
        patch(path, 0, bytes(440))
        before, table = sha(path), path.read_bytes()[440:512]
        dry = self.json_here("mend", path, "boot-code", "--dry-run")
        self.assertEqual(
            (dry["done"], dry["failing_before"], dry["failing_after"]), (False, "boot-record", None)
        )
        self.assertEqual(sha(path), before)
        done = self.json_here("mend", path, "boot-code", "--yes")
        self.assertEqual((done["writes"][0]["offset"], done["writes"][0]["length"]), (0, 440))
        self.assertEqual(path.read_bytes()[440:512], table)
        self.assertEqual(ids(trace_file(path), "fatal"), [])
        points = self.json_here("undo", path, "--list")["points"]
        self.assertEqual(
            [(point["id"], point["state"]) for point in points], [(done["undo_point"], "done")]
        )
        self.run_here("undo", path)
        self.assertEqual(sha(path), before)
        self.assertIn("nothing to undo", self.run_here("undo", path, expect=4))

    @needs(*GRUB)
    def test_with_a_grub_core_it_writes_the_systems_own_stage_one_pointed_at_the_core(self):
        path = self.ext_started_by_grub()
        sound = path.read_bytes()[:SECTOR]
        patch(path, 0, bytes(440))
        done = self.json_here("mend", path, "boot-code", "--yes")
        self.assertIn("stage one", done["says"])
        self.assertEqual((done["after"], done["failing_after"]), ("unsure", None))
        now = path.read_bytes()[:SECTOR]
        self.assertEqual(now[0x5C:0x64], (1).to_bytes(8, "little"))
        self.assertEqual([at for at in range(SECTOR) if now[at] != sound[at]], [0x66, 0x67])
        screen = self.json_here("rehearse", path)
        self.assertEqual((screen["stopped"], screen["reads"][0]["lba"]), ("leaves-16-bit", 1))

    @needs(*GRUB)
    def test_with_a_grub_core_and_no_stage_one_it_is_refused(self):
        path = self.ext_started_by_grub(stage_one=False)
        patch(path, 0, bytes(440))
        before = sha(path)
        self.assertIn(
            "stage one was found on no volume",
            self.run_here("mend", path, "boot-code", "--yes", expect=4),
        )
        self.assertEqual(sha(path), before)

    @needs("sgdisk")
    def test_on_a_gpt_disk_it_is_refused(self):
        path = self.folder / "gpt.img"
        path.write_bytes(bytes(64 << 20))
        tool("sgdisk", "-n", "1:2048:40000", path)
        before = sha(path)
        self.assertIn("GPT", self.run_here("mend", path, "boot-code", "--yes", expect=4))
        self.assertEqual(sha(path), before)

    def test_guards_say_what_would_lift_them(self):
        sound = self.sample("quay-desk-1")
        self.assertIn("--anyway", self.run_here("mend", sound, "boot-code", "--yes", expect=4))
        self.assertIn(
            "--yes", self.run_here("mend", self.sample("quay-desk-2"), "boot-code", expect=4)
        )
        self.assertIn("boot-code, ", self.run_here("mend", sound, "paint-case", "--yes", expect=2))
        for flag in (b"\0", b"\x80"):  # none and two active entries, both with blank code
            path = self.sample("quay-desk-2")
            patch(path, 446, flag)
            patch(path, 462, flag)
            self.assertIn(
                "exactly one", self.run_here("mend", path, "boot-code", "--yes", expect=4)
            )
        path = self.sample("office-1")
        patch(path, 0, bytes(440))
        self.assertIn(
            "boot sector of the active volume",
            self.run_here("mend", path, "boot-code", "--yes", expect=4),
        )
        path = self.sample("quay-desk-2")
        patch(path, (83_968 << 9) + 3, b"-FVE-FS-")
        self.assertIn("--key-at-hand", self.run_here("mend", path, "boot-code", "--yes", expect=4))
        self.run_here("mend", path, "boot-code", "--yes", "--key-at-hand")

    def test_an_undo_point_of_another_disk_or_a_later_change_is_refused(self):
        path = self.sample("quay-desk-2")
        self.run_here("mend", path, "boot-code", "--yes")
        point = self.json_here("undo", path, "--list")["points"][0]["id"]
        self.assertIn(
            "no undo point", self.run_here("undo", self.sample("gate-2"), point + "x", expect=3)
        )
        patch(path, 5, b"later")
        self.assertIn("changed since", self.run_here("undo", path, point, expect=4))

    def test_a_copy_with_another_identifier_or_other_data_is_another_disk(self):
        path = self.sample("quay-desk-2")
        patch(path, 0, bytes(440))
        self.run_here("mend", path, "boot-code", "--yes")
        point = self.json_here("undo", path, "--list")["points"][0]["id"]
        volume = 2048 << 9
        other = bytes([0, *(byte ^ 2 for byte in range(1, 256))])
        other_data = path.read_bytes()[volume + (32 << 9) : volume + (8 << 20)].translate(other)
        for offset, data, hint in (
            (440, b"\x11\x22\x33\x44", ""),
            (volume + 67, b"\x99\x98", ""),
            (volume + (32 << 9), other_data, "--used-since"),
        ):
            with self.subTest(offset):
                copy = self.folder / "copy.img"
                shutil.copy(path, copy)
                patch(copy, offset, data)
                before = sha(copy)
                says = self.run_here("undo", copy, point, expect=4)
                self.assertIn("another disk", says)
                self.assertIn(hint, says)
                self.assertEqual(sha(copy), before)
        # the last copy differs in content alone, as a disk does that was used since
        self.assertIn("--used-since", self.run_here("undo", copy, expect=4))
        self.assertEqual(self.json_here("undo", copy, "--list")["points"], [])
        listed = self.json_here("undo", copy, "--list", "--used-since")["points"]
        self.assertEqual([each["id"] for each in listed], [point])
        state = self.json_here("undo", path, "--list")["points"][0]["state"]
        self.assertEqual(state, "done")
        self.run_here("undo", path, point)
        self.run_here("undo", path, "--redo")
        self.run_here("undo", path)
        dropped = self.json_here("undo", path, "--drop", "--yes")["points"]
        self.assertEqual([each["state"] for each in dropped], ["dropped"])
        self.assertEqual(self.json_here("undo", path, "--list")["points"], [])

    def test_a_target_that_cannot_be_written_is_refused_before_anything(self):
        path = self.sample("quay-desk-2")
        patch(path, 0, bytes(440))
        with path.open("rb") as held:
            fcntl.flock(held, fcntl.LOCK_EX)
            says = self.run_here("mend", path, "boot-code", "--yes", expect=4)
        self.assertIn("under way", says)
        self.assertEqual(self.json_here("undo", path, "--list")["points"], [])

    def sample(self, name):
        return make_sample(
            next(sample for sample in samples(own_code()) if sample.name == name), self.folder
        )


class Journals(unittest.TestCase):
    """On memory disks that fail on purpose."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.before = bytes(range(256)) * 400
        patches = (
            Patch(1000, self.before[1000:1600], b"A" * 600, "one"),
            Patch(60000, self.before[60000:60500], b"B" * 500, "two"),
        )
        self.proposal = Proposal(
            repair=RepairId.BOOT_CODE, says="For the test.", changes=patches, answers=()
        )

    def journal(self, name="undo"):
        return Journal(self.folder / name, self.folder / "key")

    def write(self, source, journal):
        """As a repair does it, proof aside; gives the point as it is on the medium."""
        point = journal.write(source, self.proposal, (), NOW)
        self.assertEqual(journal.finish(source, point, NOW), "")
        return journal.load().points[0]

    def after(self):
        data = bytearray(self.before)
        for change in self.proposal.changes:
            data[change.offset : change.offset + change.length] = change.after
        return bytes(data)

    def test_power_cut_at_any_byte_leaves_before_after_or_one_undo_from_before(self):
        for cut in range(0, 1101, 50):
            with self.subTest(cut=cut):
                journal = self.journal(str(cut))
                source = FaultyMemory(self.before, cut_after=cut)
                with contextlib.suppress(PowerCutError):
                    self.write(source, journal)
                left = MemorySource(bytes(source.data))
                point = journal.load().points[0]
                if cut < 1100:
                    self.assertEqual(point.state.state, "planned")
                else:
                    self.assertEqual(bytes(left.data), self.after())
                journal.undo(left, point, NOW)
                self.assertEqual(bytes(left.data), self.before)

    def test_a_failed_write_and_a_medium_that_lies_are_rolled_back(self):
        for how in ({"fail_write": 0}, {"fail_write": 1}, {"flips": 0}, {"flips": 1}):
            with self.subTest(**how):
                journal = self.journal(str(how))
                source = FaultyMemory(self.before, **how)
                with self.assertRaises(RepairFailedError) as caught:
                    self.write(source, journal)
                self.assertEqual(caught.exception.exit_status, 5)
                self.assertEqual(bytes(source.data), self.before)
                self.assertEqual(journal.load().points[0].state.state, "undone")

    def test_nothing_is_written_when_the_target_changed_or_the_point_cannot_be_made(self):
        source = MemorySource(b"x" + self.before[1:1000] + b"y" + self.before[1001:])
        with self.assertRaises(RefusedError):
            self.write(source, self.journal())
        source = MemorySource(self.before)
        (self.folder / "file").write_text("in the way")
        with self.assertRaises(MendingError):
            self.write(source, self.journal("file"))
        self.assertEqual(bytes(source.data), self.before)

    def test_what_could_not_be_known_again_is_not_written(self):
        source = MemorySource(bytes(len(self.before)))
        patch_of_zeros = Patch(1000, bytes(600), b"A" * 600, "one")
        self.proposal = msgspec.structs.replace(self.proposal, changes=(patch_of_zeros,))
        with self.assertRaises(RefusedError) as caught:
            self.write(source, self.journal())
        self.assertIn("could not be undone", caught.exception.says)
        self.assertEqual(bytes(source.data), bytes(len(self.before)))

    def test_kept_bytes_that_were_damaged_are_not_put_back(self):
        source, journal = MemorySource(self.before), self.journal()
        point = self.write(source, journal)
        (point.folder / "before-0.bin").write_bytes(b"rotten")
        with self.assertRaises(MendingError):
            journal.undo(source, point, NOW)
        self.assertEqual(bytes(source.data), self.after())

    def test_a_bad_entry_keeps_no_point_from_being_used(self):
        source, journal = MemorySource(self.before), self.journal()
        point = self.write(source, journal)
        (journal.folder / "stray").write_text("a note")
        (journal.folder / "empty").mkdir()
        for name, file, data in (
            ("rotten", "point.json", b"{"),
            ("no-text", "state.json", b'{"state": "\xff", "at": ""}'),
        ):
            shutil.copytree(point.folder, journal.folder / name)
            (journal.folder / name / file).write_bytes(data)
        (journal.folder / "link").symlink_to(point.folder)
        found = journal.load()
        self.assertEqual([each.folder for each in found.points], [point.folder])
        names = sorted(each.folder.name for each in found.damaged)
        self.assertEqual(names, ["empty", "link", "no-text", "rotten", "stray"])
        alone = self.folder / "elsewhere" / point.folder.name
        shutil.copytree(point.folder, alone)
        journal.undo(source, journal.load_one(alone), NOW)
        self.assertEqual(bytes(source.data), self.before)

    def test_a_point_that_was_made_up_is_not_believed(self):
        source, journal = MemorySource(self.before), self.journal()
        point = self.write(source, journal)
        head = point.folder / "point.json"
        head.write_text(head.read_text().replace('"offset": 1000', '"offset": 4000'))
        with self.assertRaises(RefusedError) as caught:
            journal.undo(source, journal.load().points[0], NOW)
        self.assertIn("not made on this machine", caught.exception.says)
        other = Journal(journal.folder, self.folder / "another-key")
        with self.assertRaises(RefusedError):
            other.undo(source, other.load().points[0], NOW)
        self.assertEqual(bytes(source.data), self.after())

    def test_other_data_and_another_size_are_another_disk(self):
        source, journal = MemorySource(self.before), self.journal()
        point = self.write(source, journal)
        other = bytearray(source.data)
        other[20_000:31_000] = bytes(11_000)
        for data in (bytes(other), bytes(source.data) + bytes(512)):
            with self.assertRaises(RefusedError):
                journal.undo(MemorySource(data), point, NOW)
        self.assertEqual(journal.load().points[0].state.state, "done")
        journal.undo(MemorySource(bytes(other)), point, NOW, Allowed(used_since=True))

    def test_undone_and_done_again_and_let_go(self):
        source, journal = MemorySource(self.before), self.journal()
        point = self.write(source, journal)
        with self.assertRaises(RefusedError):
            journal.redo(source, point, NOW)
        point = journal.undo(source, point, NOW)
        with self.assertRaises(RefusedError):
            journal.undo(source, point, NOW)
        point = journal.redo(source, point, NOW)
        self.assertEqual(bytes(source.data), self.after())
        journal.drop(journal.undo(source, point, NOW))
        self.assertEqual((journal.load().points, list(journal.folder.iterdir())), ((), []))

    def test_a_later_repair_of_the_same_place_comes_first(self):
        source, journal = MemorySource(self.before), self.journal()
        first = self.write(source, journal)
        again = Patch(1500, b"A" * 100 + self.before[1600:1700], b"C" * 200, "three")
        self.proposal = msgspec.structs.replace(self.proposal, changes=(again,))
        later = journal.write(source, self.proposal, (), NOW)
        with self.assertRaises(RefusedError) as caught:
            journal.undo(source, first, NOW)
        self.assertIn(later.file.id, caught.exception.hint)
        journal.undo(source, later, NOW)
        journal.undo(source, first, NOW)
        self.assertEqual(bytes(source.data), self.before)

    def test_the_interrupt_key_and_a_fault_of_ours_roll_back(self):
        for error in (KeyboardInterrupt, IndexError, MemoryError):
            source, journal = MemorySource(self.before), self.journal(error.__name__)
            point = journal.write(source, self.proposal, (), NOW)
            with (
                self.assertRaises(RepairFailedError),
                journal.rolled_back(source, point, NOW, "It"),
            ):
                raise error
            self.assertEqual(bytes(source.data), self.before)
            self.assertEqual(journal.load().points[0].state.state, "undone")

    def test_a_device_that_goes_away_is_put_back_once_it_is_there_again(self):
        class Gone(MemorySource):
            there = True

            def read(self, offset, length):
                if not self.there:
                    raise InputError("The device went away.")
                return super().read(offset, length)

            def write(self, offset, data):
                super().write(offset, data[: len(data) // 2])
                self.there = False
                raise InputError("The device went away.")

        source, journal = Gone(self.before), self.journal()
        with self.assertRaises(RepairFailedError) as caught:
            self.write(source, journal)
        self.assertIn("could not be put back", caught.exception.says)
        (point,) = journal.load().points
        self.assertEqual(point.state.state, "planned")
        again = MemorySource(bytes(source.data))
        with self.assertRaisesRegex(RefusedError, "cut off"):
            journal.settle(again, NOW)
        journal.undo(again, point, NOW)
        self.assertEqual(bytes(again.data), self.before)

    def test_a_sector_that_cannot_be_read_back_is_written_as_before(self):
        class Unread(MemorySource):
            written = 0

            def read(self, offset, length):
                if self.written == 1 and offset == 1000:
                    raise ReadError("It cannot be read back.", offset, length)
                return super().read(offset, length)

            def flush(self):
                self.written += 1

        source, journal = Unread(self.before), self.journal()
        with self.assertRaisesRegex(RepairFailedError, "rolled back"):
            self.write(source, journal)
        self.assertEqual(bytes(source.data), self.before)
        self.assertEqual(journal.load().points[0].state.state, "undone")

    def test_a_point_that_cannot_be_noted_as_done_is_a_warning_and_works(self):
        source, journal = MemorySource(self.before), self.journal()
        point = journal.write(source, self.proposal, (), NOW)
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            warning = journal.finish(source, point, NOW)
        self.assertIn("could not be noted", warning)
        self.assertEqual(bytes(source.data), self.after())
        journal.settle(source, NOW)
        (point,) = journal.load().points
        self.assertEqual(point.state.state, "done")
        journal.undo(source, point, NOW)
        self.assertEqual(bytes(source.data), self.before)

    def test_only_the_owner_may_read_what_is_kept(self):
        point = self.write(MemorySource(self.before), self.journal())
        kept = [self.folder / "key", self.folder / "undo", point.folder, *point.folder.iterdir()]
        self.assertEqual({path.stat().st_mode & 0o077 for path in kept}, {0})

    def test_a_repair_that_was_cut_off_bars_the_next_until_it_is_undone(self):
        disk = samples(own_code())[1]
        path = make_sample(disk, self.folder)
        data = path.read_bytes()[: 90 << 20]
        source = MemorySource(data)
        journal = self.journal()
        carry_out(planned(source), source, journal, NOW)
        state = next((self.folder / "undo").iterdir()) / "state.json"
        half = bytearray(source.data)
        half[:100] = data[:100]
        for now, allowed in ((half, False), (source.data, True)):
            state.write_text(json.dumps({"state": "planned", "at": NOW}))
            target = MemorySource(bytes(now))
            if allowed:
                journal.settle(target, NOW)
                self.assertIn("done", state.read_text())
                continue
            with self.assertRaises(RefusedError) as caught:
                carry_out(planned(MemorySource(data)), target, journal, NOW)
            self.assertIn("cut off", caught.exception.says)


if __name__ == "__main__":
    unittest.main()
