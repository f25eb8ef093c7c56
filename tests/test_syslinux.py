"""Boot managers of the SYSLINUX family as their own installer lays them down: followed to the
sign-in, each way to break one, and what real firmware then shows.
"""

import shutil
import unittest
from pathlib import Path
from random import Random

from mending.formats import boot_menus
from tests.machine import QEMU, screen_of
from tests.support import SECTOR, START, ids, mounted, needs, needs_mounts, patch, tool, trace_file
from tests.systems import ROOT, Systems

CODE, MODULES = Path("/usr/lib/EXTLINUX/mbr.bin"), Path("/usr/lib/syslinux/modules/bios")
HOME = "boot/extlinux"
MENU = f"""DEFAULT ferry
TIMEOUT 30
LABEL old
  MENU LABEL An older one
  KERNEL /boot/vmlinuz.old
LABEL ferry
  LINUX /boot/vmlinuz
  INITRD ../initrd
  APPEND root=UUID={ROOT} ro quiet
"""
MAKERS = ("sfdisk", "mke2fs", "extlinux", "debugfs", "chattr", CODE, MODULES / "menu.c32")


@needs_mounts
@needs(*MAKERS)
class Installed(Systems):
    def made(self, menu=MENU):
        """A disk whose one volume has a system and the boot manager, installed by its program."""
        path = self.folder / "desk.img"
        tree = self.planted({**self.tree(), f"{HOME}/extlinux.conf": menu.encode()})
        with path.open("wb") as file:
            file.truncate(64 << 20)
        tool("sfdisk", "-q", path, stdin=f"label: dos\nstart={START},type=83,bootable\n")
        where = ["-E", f"offset={START * SECTOR}", "-U", ROOT, "-O", "^64bit"]
        tool("mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, *where, path, "58000k")
        patch(path, 0, CODE.read_bytes()[:440])
        with mounted(path, "ext4", START * SECTOR, options="rw") as top:
            tool("extlinux", "--install", top / HOME)
            shutil.copy(MODULES / "menu.c32", top / HOME)
        return path

    def run_in(self, path, *words):
        tool("debugfs", "-w", "-R", " ".join(map(str, words)), f"{path}?offset={START * SECTOR}")

    def moved(self, path):
        """The second file copied to another place, as a program for backups would."""
        held = self.folder / "held"
        self.run_in(path, "dump", f"/{HOME}/ldlinux.sys", held)
        with mounted(path, "ext4", START * SECTOR, options="rw") as top:
            tool("chattr", "-i", top / HOME / "ldlinux.sys")
            (top / HOME / "ldlinux.sys").rename(top / HOME / "was")
            (top / HOME / "ldlinux.sys").write_bytes(held.read_bytes())
            (top / HOME / "was").write_bytes(bytes(60_000))

    def test_a_sound_one_is_followed_to_the_sign_in(self):
        trace = trace_file(self.made())
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        says = " ".join(check.says for check in trace.checks)
        self.assertIn("has 2 entries; 'ferry' starts by itself", says)

    def test_each_way_to_break_one_is_found_in_its_phase(self):
        def code(path):
            at = tool(
                "debugfs", "-R", f"bmap /{HOME}/ldlinux.sys 9", f"{path}?offset={START * SECTOR}"
            )
            patch(path, START * SECTOR + int(at) * 1024 + 77, b"\xee")

        def gone(name):
            return lambda path: self.run_in(path, "rm", f"/{HOME}/{name}")

        rows = (
            (self.moved, MENU, "second-file-unfit", "boot-record"),
            (code, MENU, "second-file-unfit", "boot-record"),
            (gone("ldlinux.sys"), MENU, "second-file-unfit", "boot-record"),
            (gone("ldlinux.c32"), MENU, "manager-module-unfit", "boot-manager"),
            (gone("extlinux.conf"), MENU, "manager-menu-unfit", "boot-manager"),
            (
                None,
                MENU.replace("DEFAULT ferry", "DEFAULT gone"),
                "manager-menu-unfit",
                "boot-manager",
            ),
            (None, "UI gone.c32\n" + MENU, "manager-module-unfit", "boot-manager"),
            (None, MENU.replace("/vmlinuz\n", "/gone\n"), "kernel-missing", "loader"),
            (None, MENU.replace("initrd\n", "lost\n"), "initramfs-missing", "loader"),
            (None, MENU.replace(ROOT, "dead-beef"), "root-missing", "kernel"),
        )
        for change, menu, kind, phase in rows:
            with self.subTest(kind, menu=menu[:30], change=change):
                path = self.made(menu)
                if change is not None:
                    change(path)
                trace = trace_file(path)
                self.assertEqual((ids(trace, "fatal")[:1], trace.failing_phase), ([kind], phase))
        trace = trace_file(self.made("UI menu.c32\n" + MENU))
        self.assertIn("libutil.c32", trace.fatal[0].says)  # which that module needs

    @needs(QEMU)
    def test_real_firmware_stops_where_the_trace_says(self):
        path = self.made()
        self.run_in(path, "rm", f"/{HOME}/ldlinux.c32")
        self.assertIn("Failed to load", screen_of(path, "bios", "Failed to load", seconds=60))
        path = self.made()
        self.moved(path)
        shown = screen_of(path, "bios", "Boot error", seconds=40, idle=6)
        self.assertNotIn("Failed to load", shown)
        self.assertNotIn("vmlinuz", shown)


class AnyBytes(unittest.TestCase):
    def test_no_file_ends_in_an_error(self):
        random = Random(5)
        for _ in range(3000):
            data = bytearray(random.randbytes(2048))
            data[24:28] = (0x3EB202FE).to_bytes(4, "little")
            data[46:48] = random.randrange(2100).to_bytes(2, "little")
            data[32:34] = random.randrange(1, 300).to_bytes(2, "little")
            second = boot_menus.read_syslinux_file(bytes(data))
            if second is not None:
                first = second.first_sector(bytes(512)) or 0
                self.assertLess(len(list(second.sectors(first))), 70_000)
        for text in ("LABEL\nLINUX\nINITRD ,,\nAPPEND", "DEFAULT\nMENU DEFAULT", "\0\nLABEL a b c"):
            boot_menus.read_syslinux_menu(text)


if __name__ == "__main__":
    unittest.main()
