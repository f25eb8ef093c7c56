"""GRUB EFI images that carry a memory disk with a menu of their own: made by GRUB's own tool, and
the one image for all PCs that a distribution ships. What they hand over to is followed.
"""

import unittest
from pathlib import Path
from random import Random

from tests.machine import OVMF, QEMU, screen_of
from tests.samples import SIGNED, needs_signed
from tests.support import ids, made_kernel, needs, tool, trace_file
from tests.systems import EFI_MAKERS, MENU, ROOT, EfiSystems

FALLBACK = "EFI/BOOT/BOOTX64.EFI"
SHIPPED = Path("/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi")
BY_UUID = f"search --no-floppy --fs-uuid --set=root {ROOT}\n"
BY_LABEL = "search --no-floppy --label --set=root FERRY\n"
BY_FILE = "search --no-floppy --file --set=root /boot/vmlinuz\n"
ON = "set prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"
IN_IMAGE = (
    *("part_gpt", "fat", "ext2", "linux", "configfile", "echo", "sleep"),
    *("search", "search_fs_uuid", "search_label", "search_fs_file"),
)
"""Modules that are still there when the menu has moved the prefix."""
SHOWS = "echo 'Ferry menu reached'\nsleep 30\n"


class OwnMenu(EfiSystems):
    def standalone(self, menu, without="", pictures=0):
        """An image with this menu in its memory disk, a tar archive; `pictures` in MiB."""
        made, held = self.folder / "standalone.efi", self.folder / "standalone.cfg"
        held.write_text(menu)
        picture = self.folder / "harbour.raw"
        picture.write_bytes(Random(5).randbytes(pictures << 20))
        tool(
            "grub-mkstandalone",
            *("-O", "x86_64-efi", "-o", made, "--locales=", "--fonts=", "--themes="),
            f"--modules={' '.join(name for name in IN_IMAGE if name != without)}",
            "--install-modules=linux normal configfile search echo sleep test",
            f"boot/grub/grub.cfg={held}",
            f"boot/grub/harbour.raw={picture}",
        )
        return made.read_bytes()

    def disk_of(self, image, change=None, **esp):
        files = self.tree()
        files["boot/grub/grub.cfg"] = MENU.encode()
        for name, data in (change or {}).items():
            files[name] = data
        files = {name: data for name, data in files.items() if data is not None}
        return self.efi_disk({FALLBACK: image, **esp}, files)

    @needs(*EFI_MAKERS, "grub-mkstandalone")
    def test_a_sound_one_is_followed_to_the_sign_in(self):
        for search, pictures in ((BY_UUID, 0), (BY_LABEL, 0), (BY_FILE, 12)):
            with self.subTest(search):
                image = self.standalone(search + ON, pictures=pictures)
                trace = trace_file(self.disk_of(image))
                self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))

    @needs(*EFI_MAKERS, "grub-mkstandalone")
    def test_each_way_to_break_one_is_found(self):
        image = self.standalone(BY_UUID + ON)
        kernel = made_kernel()
        rows = (
            ("grub-menu-empty", "boot-manager", {"boot/grub/grub.cfg": b"set timeout=3\n"}),
            ("grub-menu-missing", "boot-manager", {"boot/grub/grub.cfg": None}),
            ("kernel-missing", "loader", {"boot/vmlinuz": None}),
            ("kernel-damaged", "loader", {"boot/vmlinuz": kernel[:30_000]}),
            ("initramfs-missing", "loader", {"boot/initrd": None}),
            (
                "root-missing",
                "kernel",
                {"boot/grub/grub.cfg": MENU.replace(f"root=UUID={ROOT}", "root=UUID=5e").encode()},
            ),
            ("accounts-damaged", "session", {"etc/passwd": b""}),
        )
        for expected, phase, change in rows:
            with self.subTest(expected):
                trace = trace_file(self.disk_of(image, change))
                self.assertEqual((ids(trace, "fatal"), trace.failing_phase), ([expected], phase))

    @needs(*EFI_MAKERS, "grub-mkstandalone")
    @needs_signed
    def test_a_damaged_one_is_told_from_one_that_nobody_knows(self):
        image = self.standalone(BY_UUID + ON)
        trace = trace_file(self.disk_of(image.replace(b"mimg", b"MIMG")))
        fatal = (ids(trace, "fatal"), trace.failing_phase)
        self.assertEqual(fatal, (["efi-loader-damaged"], "boot-manager"))
        shim = SIGNED.read_bytes()
        for changed in (False, True):
            data = bytearray(shim)
            data[300_000] ^= changed
            trace = trace_file(self.disk_of(bytes(data), **{"EFI/BOOT/grubx64.efi": image}))
            self.assertEqual(ids(trace, "warning"), ["loader-changed"] if changed else [])
            self.assertEqual(ids(trace, "fatal"), [])

    @needs(*EFI_MAKERS, "grub-mkstandalone")
    def test_a_command_whose_module_was_left_behind(self):
        """The memory disk has the module; the menu moves the prefix before it is first used."""
        image = self.standalone(BY_UUID + ON, without="configfile")
        trace = trace_file(self.disk_of(image))
        self.assertEqual(
            (ids(trace, "fatal"), trace.failing_phase), (["grub-modules-missing"], "boot-manager")
        )

    @needs(*EFI_MAKERS, "grub-mkstandalone", OVMF, QEMU)
    def test_real_firmware_goes_the_way_that_was_followed(self):
        shown = {"boot/grub/grub.cfg": SHOWS.encode()}
        path = self.disk_of(self.standalone(BY_LABEL + ON), shown)
        screen = screen_of(path, "uefi", "Ferry menu reached")
        self.assertIn("Ferry menu reached", screen)


class Shipped(EfiSystems):
    def disk_of(self, change=None):
        esp = {
            "EFI/desk/grubx64.efi": SHIPPED.read_bytes(),
            "EFI/desk/grub.cfg": (BY_UUID + ON).encode(),
        }
        files = {**self.tree(), "boot/grub/grub.cfg": MENU.encode(), **(change or {})}
        return self.efi_disk(esp, files)

    @needs(*EFI_MAKERS, SHIPPED)
    def test_only_firmwares_entry_stays_open(self):
        trace = trace_file(self.disk_of())
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "unsure"))
        self.assertEqual(trace.unread.phase, "firmware")
        states = {phase.id: phase.state for phase in trace.phases}
        for phase in ("boot-record", "boot-manager", "loader", "kernel", "session"):
            self.assertEqual(states[phase], "passed", phase)

    @needs(*EFI_MAKERS, SHIPPED)
    def test_what_is_broken_behind_it_is_found(self):
        trace = trace_file(self.disk_of({"boot/vmlinuz": b"no kernel"}))
        self.assertEqual((ids(trace, "fatal"), trace.failing_phase), (["kernel-damaged"], "loader"))


if __name__ == "__main__":
    unittest.main()
