"""Repairs: what they write, what they refuse, and that no failure or power cut leaves a target
half-way.
"""

import contextlib
import json
import tempfile
import unittest
from pathlib import Path

from mending.model import MendingError, Patch, RefusedError, RepairFailedError, RepairId
from mending.repair.base import MendSettings, Proposal
from mending.repair.boot import own_code
from mending.repair.journal import load_points, undo_point, write_point
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

    def sample(self, name):
        return make_sample(
            next(sample for sample in samples(own_code()) if sample.name == name), self.folder
        )


class Journal(unittest.TestCase):
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

    def after(self):
        data = bytearray(self.before)
        for change in self.proposal.changes:
            data[change.offset : change.offset + change.length] = change.after
        return bytes(data)

    def test_power_cut_at_any_byte_leaves_before_after_or_one_undo_from_before(self):
        for cut in range(0, 1101, 50):
            with self.subTest(cut=cut):
                folder = self.folder / str(cut)
                source = FaultyMemory(self.before, cut_after=cut)
                with contextlib.suppress(PowerCutError):
                    write_point(source, self.proposal, folder, NOW)
                left = MemorySource(bytes(source.data))
                if cut < 1100:
                    self.assertEqual(load_points(folder)[0].state.state, "planned")
                else:
                    self.assertEqual(bytes(left.data), self.after())
                undo_point(left, load_points(folder)[0], NOW)
                self.assertEqual(bytes(left.data), self.before)

    def test_a_failed_write_and_a_medium_that_lies_are_rolled_back(self):
        for how in ({"fail_write": 0}, {"fail_write": 1}, {"flips": 0}, {"flips": 1}):
            with self.subTest(**how):
                folder = self.folder / str(how)
                source = FaultyMemory(self.before, **how)
                with self.assertRaises(RepairFailedError) as caught:
                    write_point(source, self.proposal, folder, NOW)
                self.assertEqual(caught.exception.exit_status, 5)
                self.assertEqual(bytes(source.data), self.before)
                self.assertEqual(load_points(folder)[0].state.state, "undone")

    def test_nothing_is_written_when_the_target_changed_or_the_point_cannot_be_made(self):
        source = MemorySource(b"x" + self.before[1:1000] + b"y" + self.before[1001:])
        with self.assertRaises(RefusedError):
            write_point(source, self.proposal, self.folder, NOW)
        source = MemorySource(self.before)
        (self.folder / "file").write_text("in the way")
        with self.assertRaises(MendingError):
            write_point(source, self.proposal, self.folder / "file", NOW)
        self.assertEqual(bytes(source.data), self.before)

    def test_kept_bytes_that_were_damaged_are_not_put_back(self):
        source = MemorySource(self.before)
        point = write_point(source, self.proposal, self.folder, NOW)
        (point.folder / "before-0.bin").write_bytes(b"rotten")
        with self.assertRaises(MendingError):
            load_points(self.folder)

    def test_a_repair_that_was_cut_off_bars_the_next_until_it_is_undone(self):
        disk = samples(own_code())[1]
        path = make_sample(disk, self.folder)
        data = path.read_bytes()[: 90 << 20]
        source = MemorySource(data)
        carry_out(planned(source), source, self.folder / "undo", NOW)
        state = next((self.folder / "undo").iterdir()) / "state.json"
        state.write_text(json.dumps({"state": "planned", "at": NOW}))
        with self.assertRaises(RefusedError) as caught:
            carry_out(
                planned(MemorySource(data)),
                MemorySource(data),
                self.folder / "undo",
                NOW,
            )
        self.assertIn("cut off", caught.exception.says)


if __name__ == "__main__":
    unittest.main()
