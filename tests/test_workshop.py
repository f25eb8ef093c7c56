"""What the workshop makes is what other programs take it for, and the same bytes every time."""

import unittest

from mending.repair.boot import own_code
from mending.workshop import (
    BIOS_FAULTS,
    MARKER,
    UEFI_FAULTS,
    bios_disk,
    make_sample,
    samples,
    uefi_disk,
)
from mending.workshop.disks import DESK, STORE, fat32_volume
from tests.support import SECTOR, InFolder, ids, needs, sha, tool, trace_file


class Disks(InFolder):
    def volume(self, draft, place):
        """One volume of a draft as a file of its own."""
        whole, part = self.folder / "whole.img", self.folder / "volume.img"
        draft.save(whole)
        with whole.open("rb") as file:
            file.seek(place[0] * SECTOR)
            part.write_bytes(file.read(place[1] * SECTOR))
        return part

    @needs("fsck.fat", "mdir", "mtype")
    def test_volumes_are_sound_to_the_systems_own_checker(self):
        for draft in (bios_disk(own_code()), uefi_disk()):
            for place in (DESK, STORE):
                self.assertNotIn(
                    "differ", tool("fsck.fat", "-n", "-v", self.volume(draft, place)).lower()
                )
        volume = self.volume(uefi_disk(), STORE)
        self.assertIn("PRICES   TXT", tool("mdir", "-i", volume, "::TICKETS"))
        self.assertEqual(tool("mtype", "-i", volume, "::TICKETS/TIMES.TXT").count("17:25"), 20)

    @needs("sfdisk", "sgdisk")
    def test_tables_are_read_by_other_programs(self):
        path = self.folder / "disk.img"
        uefi_disk().save(path)
        self.assertIn("No problems found", tool("sgdisk", "--verify", path))
        self.assertIn("start=        2048, size=       81920", tool("sfdisk", "--dump", path))
        bios_disk(own_code()).save(path)
        self.assertIn("type=c, bootable", tool("sfdisk", "--dump", path))

    def test_samples_are_the_same_bytes_every_time_and_sparse(self):
        for sample in samples(own_code()):
            if sample.draw is None:
                continue
            first = make_sample(sample, self.folder)
            before = sha(first)
            self.assertEqual(sha(make_sample(sample, self.folder)), before)
            self.assertLess(first.stat().st_blocks * 512, 4 << 20)

    def test_every_fault_changes_the_disk_and_a_trace_says_something_of_nearly_all(self):
        silent = []
        for faults, make in (
            (BIOS_FAULTS, lambda: bios_disk(own_code())),
            (UEFI_FAULTS, uefi_disk),
        ):
            path = self.folder / "sound.img"
            make().save(path)
            sound, known = sha(path), ids(trace_file(path))
            for name, fault in faults.items():
                draft = make()
                fault(draft)
                draft.save(path)
                self.assertNotEqual(sha(path), sound, name)
                silent += [] if ids(trace_file(path)) != known else [name]
        self.assertEqual(
            silent, ["protective-entry-active"]
        )  # firmware starts it as it is: docs/firmware.md

    def test_names_that_do_not_fit_are_refused(self):
        for name in ("lower.txt", "TOOLONGNAME.TXT", "A.LONG"):
            with self.assertRaises(ValueError):
                fat32_volume(70000, 0, "X", {name: b"x"}, bytes(512), 1)


class Rehearsals(InFolder):
    @needs("sfdisk", "mkfs.fat", "syslinux")
    def test_other_boot_programs_run_as_far_as_they_do_on_a_pc(self):
        path = self.fat_started_by_syslinux()
        ran = self.json_here("rehearse", path)
        self.assertTrue(ran["started_volume"])
        self.assertIn("SYSLINUX", " ".join(ran["screen"]))
        self.assertEqual((ran["reads"][0]["lba"], ran["reads"][0]["to"]), (2048, 0x7C00))

    @needs("mkfs.ntfs", "sfdisk")
    def test_a_volume_that_only_prints_a_message_waits_for_a_key(self):
        path = self.partitioned("nt", "start=2048,size=65536,type=7,bootable")
        volume = self.folder / "nt.volume"
        volume.write_bytes(bytes(65536 * SECTOR))
        tool("mkfs.ntfs", "-q", "-F", "-f", "-p", 2048, "-H", "255", "-S", "63", volume)
        data = bytearray(path.read_bytes())
        data[:440], data[2048 * SECTOR : 2048 * SECTOR + (32 << 20)] = (
            own_code(),
            volume.read_bytes(),
        )
        path.write_bytes(data)
        ran = self.json_here("rehearse", path)
        self.assertEqual(ran["stopped"], "waits-for-key")
        self.assertIn("not a bootable disk", " ".join(ran["screen"]))

    def test_the_samples_say_what_seabios_makes_them_say(self):
        for name, words, stopped in (
            (None, MARKER, "halts"),
            ("two-active-entries", "Two entries of the table are active.", "waits-for-key"),
            ("blank-boot-sector", "The active volume has no boot sector.", "waits-for-key"),
            ("wrong-hidden-sectors", "Desk start: file not found: DESKLOADBIN", "halts"),
            ("blank-boot-code", "", "fault"),
        ):
            draft = bios_disk(own_code())
            if name:
                BIOS_FAULTS[name](draft)
            path = self.folder / "disk.img"
            draft.save(path)
            ran = self.json_here("rehearse", path)
            self.assertEqual((" ".join(ran["screen"]), ran["stopped"]), (words, stopped))
        BIOS_FAULTS["no-signature"](draft)
        draft.save(path)
        self.assertIn("does not end in 55 aa", self.run_here("rehearse", path, expect=3))


if __name__ == "__main__":
    unittest.main()
