"""The chain of the nt family from its boot manager to a sign-in, on whole disks."""

import unittest
import uuid

from mending.formats.boot_store import StoreDevice
from mending.workshop import nt as tree
from mending.workshop.disks import MARKER, code
from mending.workshop.nt import program_bytes
from tests.machine import OVMF, QEMU, screen_of
from tests.nt_faults import SOUND, entry, settings, turned
from tests.nt_pc import BASE, PROGRAMS, SOFTWARE, SYSTEM, SYSTEM_AT, SYSTEM_BYTES, NtPc
from tests.support import SECTOR, InFolder, ids, needs, tool, trace_file

OTHER = uuid.UUID("5ea00000-0000-4000-8000-0000000000aa")
LOADER = f"{BASE}/winload.efi"
ENDS = ("error: ", "Press any key")


@needs(*PROGRAMS)
class WholeDisks(InFolder):
    def test_sound_disks_have_no_fatal_finding_and_are_read_to_the_sign_in(self):
        self.assertGreaterEqual(len(SOUND), 12)
        for firmware, what, change, expected in SOUND:
            with self.subTest(f"{firmware}: {what}"):
                pc = NtPc(self.folder, firmware)
                change(pc)
                trace = trace_file(pc.path)
                self.assertEqual((trace.verdict, trace.failing_phase), ("no-fault-found", None))
                self.assertEqual(sorted(ids(trace)), sorted(expected))


@needs(*PROGRAMS)
class Elsewhere(InFolder):
    """What is on another disk or drive of the PC cannot be judged, and is no fault."""

    def test_a_system_on_another_disk(self):
        for firmware, device in (
            ("bios", StoreDevice("partition", "0badd15c", offset=7 << 20)),
            ("uefi", StoreDevice("partition", str(OTHER), str(OTHER))),
        ):
            pc = NtPc(self.folder, firmware)
            pc.store(entry(firmware, device))
            trace = trace_file(pc.path)
            self.assertEqual((trace.verdict, ids(trace, "fatal")), ("unsure", []))
            self.assertIn("which is not on this one", trace.unread.says)

    def test_a_desktop_on_another_drive(self):
        pc = NtPc(self.folder, "uefi")
        keys = tree.software_keys()
        current = keys["Skerrivane"]["Harbour"]["CurrentVersion"]
        current["Winlogon"]["Shell"] = "E:\\kiosk\\berth.exe"
        current["ProfileList"][tree.ACCOUNT]["ProfileImagePath"] = "E:\\people\\purser"
        pc.write({SOFTWARE: tree.hive(keys)})
        trace = trace_file(pc.path)
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("unsure", []))
        self.assertIn("E:", trace.unread.says)
        self.assertNotIn("profile-missing", ids(trace))


@needs(*PROGRAMS)
class Files(InFolder):
    """`files` on systems of the family, as the installed program says it."""

    def test_sound_damaged_and_without_a_hive(self):
        pc = NtPc(self.folder, "uefi")
        whole = self.json_here("files", pc.path)
        self.assertEqual((whole["by"], whole["files"], whole["without_sum"]), ("own-sums", [], 0))
        self.assertEqual(whole["checked"], 15)
        pc.lose("smss.exe")
        pc.lose("wininit.exe")  # older systems have none
        pc.write(turned(f"{BASE}/drivers/quaydisk.sys"))
        told = self.json_here("files", pc.path)
        states = {row["path"].rpartition("/")[2]: row["state"] for row in told["files"]}
        self.assertEqual(states, {"quaydisk.sys": "differs", "smss.exe": "missing"})
        self.assertIn("checksum", told["files"][0]["why"])
        pc.write({SYSTEM: bytes(8192)})
        self.assertIn("cannot be used", self.json_here("files", pc.path, expect=4)["says"])


@needs(*PROGRAMS)
class LostVolumes(InFolder):
    def test_a_volume_on_which_the_manager_finds_nothing_fails_and_is_not_left_open(self):
        def root_torn(pc):
            data = pc.path.read_bytes()[SYSTEM_AT : SYSTEM_AT + SYSTEM_BYTES]
            table = int.from_bytes(data[48:56], "little") * data[13] * SECTOR
            pc.put(SYSTEM_AT + table + 5 * 1024 + 510, b"\x5a\xa5")

        def last(pc):
            pc.put(SYSTEM_AT + SYSTEM_BYTES - SECTOR, bytes(SECTOR))
            pc.put(SYSTEM_AT, bytes(SECTOR))

        rows = (
            (lambda pc: pc.put(SYSTEM_AT, bytes(SECTOR)), "boot sector is damaged", True),
            (last, "no file system begins there", False),
            (root_torn, "top folder is damaged", False),
        )
        for firmware in ("bios", "uefi"):
            for change, says, mendable in rows:
                with self.subTest(says, firmware=firmware):
                    pc = NtPc(self.folder, firmware)
                    change(pc)
                    trace = trace_file(pc.path)
                    self.assertEqual(
                        (ids(trace, "fatal"), trace.failing_phase),
                        (["system-volume-lost"], "loader"),
                    )
                    self.assertIn(says, trace.fatal[0].says)
                    if mendable:
                        done = self.json_here("mend", pc.path, "--all", "--yes")
                        self.assertEqual(done["after"], "no-fault-found")


@needs(*PROGRAMS)
class Hostile(InFolder):
    def test_a_thousand_drivers_of_one_long_file_end_in_a_note(self):
        pc = NtPc(self.folder, "uefi")
        long = f"{BASE}/drivers/long.sys"
        many = {
            f"d{number}": tree.service(0, 1, 3, ImagePath="System32\\drivers\\long.sys")
            for number in range(90)
        }
        settings(services=many)(pc)
        pc.write({long: program_bytes().ljust(8 << 20, b"\0")})
        trace = trace_file(pc.path)
        self.assertEqual(trace.verdict, "fails")  # its checksum does not fit
        self.assertIn("files-not-checked", ids(trace, "note"))


MENU = b"""
serial
terminal_output serial
set timeout=0
menuentry Desk {
  search --no-floppy --file --set=root /ferry/system32/winload.efi
  chainloader /ferry/system32/winload.efi
}
"""
MODULES = [
    "part_gpt",
    "fat",
    "ntfs",
    "search",
    "search_fs_file",
    "chain",
    "normal",
    "serial",
    "terminal",
    "configfile",
]


@needs(*PROGRAMS, QEMU, OVMF, "grub-mkimage", "mmd")
class OnNtfs(InFolder):
    """A loader on the system's volume, which another manager reads there by its own NTFS code and
    real firmware starts.
    """

    def pc(self):
        pc, made = NtPc(self.folder, "uefi"), self.folder / "grub.efi"
        words = ("grub-mkimage", "-O", "x86_64-efi", "-o", made, "-p", "/EFI/BOOT")
        tool(*words, *MODULES)
        pc.desk("EFI/BOOT/BOOTX64.EFI", made.read_bytes())
        pc.desk("EFI/BOOT/grub.cfg", MENU)
        pc.write({LOADER: code("desk-loader-efi")})
        return pc

    def test_what_is_missing_cut_or_for_another_machine_does_not_start(self):
        pc, stub = self.pc(), code("desk-loader-efi")
        self.assertEqual(ids(trace_file(pc.path), "fatal"), [])
        self.assertIn(MARKER, screen_of(pc.path, "uefi", MARKER, seconds=60))
        other = bytearray(stub)
        head = int.from_bytes(stub[60:64], "little") + 4
        other[head : head + 2] = (0xAA64).to_bytes(2, "little")
        for what, change, kind in (
            ("cut", lambda: pc.write({LOADER: stub[:1100]}), "second-loader-damaged"),
            ("machine", lambda: pc.write({LOADER: bytes(other)}), "second-loader-damaged"),
            ("missing", lambda: pc.lose("winload.efi"), "second-loader-missing"),
        ):
            with self.subTest(what):
                change()
                trace = trace_file(pc.path)
                self.assertEqual(trace.failing_phase, "boot-manager")
                self.assertEqual(ids(trace, "fatal")[:1], [kind])
                screen = screen_of(pc.path, "uefi", MARKER, seconds=25, ends=ENDS)
                self.assertNotIn(MARKER, screen)


if __name__ == "__main__":
    unittest.main()
