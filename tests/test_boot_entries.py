"""Entries written anew and GRUB's core put back; two faults at once; a root that a power cut left
open.
"""

import gzip
import unittest
from pathlib import Path

from tests.support import (
    GRUB_FILES,
    SECTOR,
    START,
    ids,
    made_kernel,
    needs,
    patch,
    sha,
    tool,
    trace_file,
)
from tests.systems import EFI_MAKERS, MAKERS, MENU, ROOT, VERSION, EfiSystems, Systems, archive

SYSTEMD_BOOT = Path("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
FALLBACK = "EFI/BOOT/BOOTX64.EFI"


class Entries(EfiSystems):
    def mended(self, path):
        before = sha(path)
        self.assertIn("boot-entries", trace_file(path).fatal[0].repairs)
        done = self.json_here("mend", path, "boot-entries", "--yes")
        self.assertEqual((done["after"], done["failing_after"]), ("no-fault-found", None))
        part = self.folder / "part"
        part.write_bytes(path.read_bytes()[START * SECTOR : (START + 120_000) * SECTOR])
        self.assertNotIn("Fixing", tool("fsck.fat", "-n", part))
        after = path.read_bytes()
        self.run_here("undo", path)
        self.assertEqual(sha(path), before)
        path.write_bytes(after)
        return tool("mtype", "-i", part, f"::loader/entries/ferry-{VERSION}.conf")

    @needs(*EFI_MAKERS, SYSTEMD_BOOT, "fsck.fat", "mtype")
    def test_kernels_beside_the_manager_get_their_entries(self):
        root = {
            **self.tree(),
            "etc/os-release": b"ID=ferry\nPRETTY_NAME='Ferry Linux 3'\n",
            "etc/kernel/cmdline": b"quiet console=ttyS0 root=/dev/gone\n",
        }
        inside = {
            FALLBACK: SYSTEMD_BOOT.read_bytes(),
            "ferry/linux": made_kernel(version=VERSION),
            "ferry/initrd": gzip.compress(archive()),
            "ferry/linux-cut": made_kernel()[:20_000],
        }
        text = self.mended(self.efi_disk(inside, root))
        for row in (
            "title Ferry Linux 3",
            f"version {VERSION}",
            "linux /ferry/linux",
            "initrd /ferry/initrd",
            f"options root=UUID={ROOT} ro quiet console=ttyS0",
        ):
            self.assertIn(row, text.splitlines())

    @needs(*EFI_MAKERS, SYSTEMD_BOOT, "fsck.fat", "mtype")
    def test_the_systems_own_kernel_is_brought_where_the_manager_can_read_it(self):
        broken = {
            FALLBACK: SYSTEMD_BOOT.read_bytes(),
            "loader/entries/old.conf": b"title Old\nlinux /gone\n",
        }
        root = {**self.tree(), "etc/os-release": b"ID=ferry\nPRETTY_NAME=Ferry\n"}
        path = self.efi_disk(broken, root)
        self.assertIn(f"linux /ferry/{VERSION}/linux", self.mended(path))
        self.assertEqual(ids(trace_file(path), "warning"), ["boot-entry-hidden"])

    @needs(*EFI_MAKERS, SYSTEMD_BOOT)
    def test_it_is_refused_with_a_reason(self):
        bare = {FALLBACK: SYSTEMD_BOOT.read_bytes()}
        root = self.tree()
        del root["boot/initrd"]
        says = self.run_here("mend", self.efi_disk(bare, root), "boot-entries", "--yes", expect=4)
        self.assertIn("No sound kernel with its initramfs", says)
        files = {"ferry/linux": made_kernel(version=VERSION)}
        says = self.run_here(
            "mend",
            self.efi_disk({**bare, **files}, {"etc/x": b""}),
            "boot-entries",
            "--yes",
            expect=4,
        )
        self.assertIn("No Linux system can be read", says)


class Cores(Systems):
    def with_core(self, **files):
        """A disk whose system keeps stage one and core as files, as an installation leaves them."""
        self.disk(self.tree())  # makes the core
        kept = {
            "boot/grub/i386-pc/core.img": (self.folder / "core").read_bytes(),
            "boot/grub/i386-pc/boot.img": (GRUB_FILES / "boot.img").read_bytes(),
        }
        return self.disk({**self.tree(), **kept, **files})

    @needs(*MAKERS)
    def test_a_lost_or_damaged_core_is_put_back_from_the_systems_files(self):
        path = self.with_core()
        sound, size = path.read_bytes(), len((self.folder / "core").read_bytes())
        code = "boot-code-blank"
        rows = (
            (((SECTOR, bytes(SECTOR)),), "grub-core-missing"),
            (((2 * SECTOR, bytes(size - SECTOR)),), "grub-core-blank"),
            (((SECTOR + 60_000, b"\x99\x98\x97"),), "grub-core-damaged"),
            (((0x5C, (1 << 40).to_bytes(8, "little")),), "grub-core-outside"),
            (((0, bytes(440)), (SECTOR, bytes(100 * SECTOR))), code),
        )
        for patches, expected in rows:
            path.write_bytes(sound)
            for offset, data in patches:
                patch(path, offset, data)
            broken = sha(path)
            with self.subTest(expected):
                trace = trace_file(path)
                self.assertEqual(
                    (trace.fatal[0].id, trace.fatal[0].repairs), (expected, ("boot-code",))
                )
                done = self.json_here("mend", path, "boot-code", "--yes")
                self.assertEqual(done["after"], "no-fault-found")
                self.run_here("undo", path)
                self.assertEqual(sha(path), broken)

    @needs(*MAKERS, "e2fsck")
    def test_two_faults_at_once_are_both_found_and_both_mended(self):
        wrong = MENU.replace(
            f"root=UUID={ROOT}", "root=UUID=5ea00000-0000-4000-8000-0000000000ff"
        ).encode()
        path = self.with_core(**{"boot/grub/grub.cfg": wrong})
        patch(path, 0, bytes(440))
        trace = trace_file(path)
        self.assertEqual(ids(trace, "fatal"), ["boot-code-blank", "root-missing"])
        done = self.json_here("mend", path, "--all", "--yes")
        self.assertEqual([step["repair"] for step in done["steps"]], ["boot-code", "root-name"])
        self.assertEqual(done["after"], "no-fault-found")
        broken = self.with_core(**{"boot/grub/grub.cfg": b"# lost\n" * 200})
        patch(broken, SECTOR + 60_000, b"\x99\x98\x97")
        done = self.json_here("mend", broken, "--all", "--yes")
        self.assertEqual([step["repair"] for step in done["steps"]], ["boot-code", "boot-entries"])
        self.assertEqual(done["after"], "no-fault-found")

    @needs(*MAKERS, "grub-script-check")
    def test_words_that_a_menu_would_take_for_commands_stay_words(self):
        words = b"root=UUID=x quiet;reboot a=\"b c='d $e {f} |g &h\n"
        files = {"boot/grub/grub.cfg": b"# lost\n" * 200, "etc/kernel/cmdline": words}
        for more in ({}, {"boot/vmlinuz-1;reboot": made_kernel()}):
            disk = self.with_core(**files, **more)
            self.json_here("mend", disk, "boot-entries", "--yes")
            volume = self.folder / "volume"
            volume.write_bytes(disk.read_bytes()[START * SECTOR :])
            menu = self.folder / "menu"
            menu.write_text(tool("debugfs", "-R", "cat /boot/grub/grub.cfg", volume))
            tool("grub-script-check", menu)
            starts = next(row for row in menu.read_text().splitlines() if "linux /" in row)
            for word in ("'quiet;reboot'", "'$e'", "'{f}'", "'|g'", "'&h'", "'\"b'"):
                self.assertIn(word, starts.replace("a=", "").replace("''\\''", "''"))
            self.assertNotIn(";reboot\n", menu.read_text().replace("'quiet;reboot'", ""))
            self.assertNotIn("vmlinuz-1;", menu.read_text())

    @needs(*MAKERS, "debugfs")
    def test_a_root_that_a_power_cut_left_open_is_no_fault(self):
        path = self.disk(self.tree())
        tool("debugfs", "-w", "-R", "feature needs_recovery", f"{path}?offset={START * SECTOR}")
        tool("debugfs", "-w", "-R", "ssv state 0", f"{path}?offset={START * SECTOR}")
        trace = trace_file(path)
        self.assertEqual(
            (trace.verdict, ids(trace, "fatal"), ids(trace, "warning")), ("no-fault-found", [], [])
        )
        self.assertEqual(trace.volumes[0].state, "dirty")


if __name__ == "__main__":
    unittest.main()
