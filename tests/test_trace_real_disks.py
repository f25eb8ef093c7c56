"""`trace` on disks made by real partitioning and formatting programs: right phase, nothing changed,
no false alarm.
"""

import unittest

from mending.model import Severity
from tests.support import (
    GRUB_FILES,
    MBR_FILES,
    SECTOR,
    START,
    InFolder,
    ids,
    needs,
    patch,
    run_json,
    sha,
    tool,
    trace_file,
)

VOLUME = START * SECTOR
SYSLINUX = ("sfdisk", "mkfs.fat", "syslinux", MBR_FILES / "mbr.bin")
GRUB = ("sfdisk", "mke2fs", "grub-mkimage", GRUB_FILES / "boot.img")


class Sound(InFolder):
    def assert_sound(self, path):
        trace = trace_file(path)
        self.assertEqual(ids(trace, Severity.FATAL), [])
        self.assertIsNone(trace.failing_phase)
        return trace

    @needs(*SYSLINUX)
    def test_fat12_16_and_32_that_start_have_no_fatal_finding(self):
        for bits, mib in ((12, 64), (16, 64), (32, 80)):
            with self.subTest(bits=bits):
                trace = self.assert_sound(self.fat_started_by_syslinux(f"fat{bits}", bits, mib))
                self.assertEqual(trace.volumes[0].filesystem, f"fat{bits}")
                self.assertEqual(trace.volumes[0].start, START)

    @needs(*SYSLINUX)
    def test_hidden_sectors_matter_only_to_code_that_counts_from_them(self):
        """Syslinux counts from the entry that is handed over; SeaBIOS starts it in spite of the
        wrong number.
        """
        path = self.fat_started_by_syslinux()
        patch(path, VOLUME + 28, b"\0\0\0\0")
        self.assertEqual(ids(self.assert_sound(path), Severity.WARNING), ["hidden-sectors-differ"])

    @needs(*GRUB)
    def test_grub_ignores_the_active_flag_and_names_a_block(self):
        trace = self.assert_sound(self.ext_started_by_grub())
        self.assertEqual((trace.verdict, trace.failing_phase), ("unsure", None))
        self.assertIn("it names sector 1", " ".join(check.says for check in trace.checks))

    @needs("parted")
    def test_boot_code_of_another_partitioning_program_is_recognised(self):
        path = self.folder / "parted.img"
        path.write_bytes(bytes(64 << 20))
        tool(
            "parted",
            "-s",
            path,
            "mklabel",
            "msdos",
            "mkpart",
            "primary",
            "fat32",
            "1MiB",
            "100%",
            "set",
            "1",
            "boot",
            "on",
        )
        trace = trace_file(path)
        self.assertEqual(ids(trace, Severity.FATAL), ["volume-boot-sector-blank"])


class Broken(InFolder):
    """Each fault is made on a copy of a disk that has none."""

    def assert_fails(self, path, phase, finding):
        before = sha(path)
        trace = trace_file(path)
        self.assertEqual((trace.failing_phase, trace.verdict), (phase, "fails"), ids(trace))
        self.assertIn(finding, ids(trace, Severity.FATAL))
        self.assertEqual(sha(path), before)
        return trace

    @needs(*SYSLINUX)
    def test_faults_of_a_chain_with_an_active_volume(self):
        sound = self.fat_started_by_syslinux("sound", 32, 80).read_bytes()
        faults = {
            "boot-code-blank": ("boot-record", [(0, bytes(440))]),
            "boot-signature-missing": ("firmware", [(510, b"\0\0")]),
            "no-active-entry": ("boot-record", [(446, b"\0")]),
            "two-active-entries": (
                "boot-record",
                [(462, b"\x80\0\0\0\x0c\0\0\0" + (150000).to_bytes(4, "little") + b"\1\1\0\0")],
            ),
            "active-entry-outside": ("boot-record", [(454, b"\xff\xff\xff\x7f")]),
            "active-entry-extended": ("boot-record", [(450, b"\x05")]),
            "volume-boot-sector-blank": ("boot-record", [(VOLUME, bytes(512))]),
            "volume-boot-sector-unknown": ("boot-record", [(VOLUME, b"ticket" * 85)]),
            "volume-boot-sector-damaged": ("boot-record", [(VOLUME + 510, b"\0\0")]),
            "volume-boot-code-blank": ("boot-record", [(VOLUME + 90, bytes(420))]),
        }
        for finding, (phase, patches) in faults.items():
            with self.subTest(finding=finding):
                path = self.folder / f"{finding}.img"
                path.write_bytes(sound)
                for offset, data in patches:
                    patch(path, offset, data)
                trace = self.assert_fails(path, phase, finding)
                fatal = trace.fatal[0].where
                self.assertIsNotNone(fatal.offset)

    @needs(*GRUB)
    def test_faults_of_a_chain_with_grub(self):
        sound = self.ext_started_by_grub("sound").read_bytes()
        faults = {
            "grub-core-missing": [(SECTOR, b"\0" * SECTOR)],
            "grub-core-outside": [(0x5C, (1 << 40).to_bytes(8, "little"))],
            "grub-core-blank": [(2 * SECTOR, bytes(300 * SECTOR))],
        }
        for finding, patches in faults.items():
            with self.subTest(finding=finding):
                path = self.folder / f"{finding}.img"
                path.write_bytes(sound)
                for offset, data in patches:
                    patch(path, offset, data)
                self.assert_fails(path, "boot-manager", finding)

    @needs("mkfs.ntfs", "sfdisk")
    def test_ntfs_boot_sector_and_its_copy_at_the_end(self):
        path = self.partitioned("nt", f"start={START},size=65536,type=7,bootable")
        volume = self.folder / "nt.volume"
        volume.write_bytes(bytes(65536 * SECTOR))
        tool("mkfs.ntfs", "-q", "-F", "-f", "-p", START, "-H", "255", "-S", "63", volume)
        patch(path, VOLUME, volume.read_bytes())
        self.assert_fails(path, "boot-record", "volume-not-bootable")
        self.assertEqual(trace_file(path).volumes[0].filesystem, "ntfs")
        patch(path, VOLUME, bytes(SECTOR))
        trace = self.assert_fails(path, "boot-record", "volume-boot-sector-blank")
        self.assertIn("its copy is sound", trace.fatal[-1].says)

    @needs("mkfs.fat")
    def test_a_volume_that_fills_the_disk_is_no_table(self):
        path = self.folder / "whole.img"
        path.write_bytes(bytes(32 << 20))
        tool("mkfs.fat", path)
        trace = self.assert_fails(path, "boot-record", "volume-not-bootable")
        self.assertEqual(trace.scheme, "none")

    @needs("mkfs.fat")
    def test_a_disk_of_4096_byte_sectors_is_told_by_its_volume(self):
        path = self.folder / "large-sectors.img"
        path.write_bytes(bytes(300 << 20))
        tool("mkfs.fat", "-F", "32", "-S", "4096", "-s", "1", "--offset", "256", path, 290 * 1024)
        entry = (
            b"\x80\0\0\0\x0c\0\0\0" + (256).to_bytes(4, "little") + (74240).to_bytes(4, "little")
        )
        patch(path, 446, entry)
        patch(path, 510, b"\x55\xaa")
        trace = trace_file(path)
        self.assertEqual(trace.target.sector, 4096)
        self.assertEqual(trace.volumes[0].bytes, 74240 * 4096)
        self.assertEqual(run_json("trace", path, "--sector", "512")["target"]["sector"], 512)


class ReadOnly(InFolder):
    @needs(*SYSLINUX)
    def test_no_reading_command_changes_the_image(self):
        path = self.fat_started_by_syslinux()
        before = sha(path)
        self.run_here("trace", path)
        self.run_here("rehearse", path)
        self.run_here("undo", path, "--list")
        self.run_here("mend", path, "boot-code", "--dry-run", "--anyway")
        self.run_here("open", self.folder / "case", "--disk", path)
        for command in ("trace", "causes", "plan", "ask"):
            self.run_here(command, self.folder / "case")
        self.assertEqual(sha(path), before)


if __name__ == "__main__":
    unittest.main()
