"""rEFInd as its package brings it: what it would find on a disk, each way to break that, and a
system that really starts by it.
"""

import unittest

from mending.formats import boot_menus
from tests.machine import OVMF, QEMU
from tests.real import ROOT_UUID, needs_real, uefi_disk, version
from tests.samples import REFIND, needs_refind
from tests.support import EVERY, ids, made_kernel, needs, tool, trace_file
from tests.systems import EFI_MAKERS, ROOT, EfiSystems
from tests.test_real_systems import TOOLS, Real

HOME, PART = "EFI/BOOT", "5EA00000-0000-4000-8000-0000000000F1"
OPTIONS = f'"Usual"  "ro root=UUID={ROOT} quiet"\n"Other" "single"\n'


@needs_refind
class Found(EfiSystems):
    def disk_of(self, esp=None, root=None):
        files = {**self.tree(), "boot/refind_linux.conf": OPTIONS.encode()}
        files["boot/vmlinuz-6.1.0-ferry"] = made_kernel(version="6.1.0-ferry")
        files["boot/initrd.img-6.1.0-ferry"] = files.pop("boot/initrd")
        del files["boot/vmlinuz"]
        inside = {
            f"{HOME}/BOOTX64.EFI": (REFIND / "refind_x64.efi").read_bytes(),
            f"{HOME}/drivers_x64/ext4_x64.efi": (REFIND / "drivers_x64/ext4_x64.efi").read_bytes(),
            f"{HOME}/refind.conf": (REFIND / "refind.conf-sample").read_bytes(),
        }
        for more, files_of in ((esp, inside), (root, files)):
            files_of |= more or {}
            for name in [name for name, data in files_of.items() if data is None]:
                del files_of[name]
        return self.efi_disk(inside, files)

    @needs(*EFI_MAKERS)
    def test_a_sound_one_is_followed_to_the_sign_in(self):
        by_hand = (
            f'scanfor manual\nmenuentry "Ferry" {{\n volume FERRY\n'
            " loader /boot/vmlinuz-6.1.0-ferry\n initrd /boot/initrd.img-6.1.0-ferry\n"
            f' options "ro root=UUID={ROOT}"\n}}\nmenuentry Off {{\n loader /x\n disabled\n}}\n'
        )
        for esp, root in (
            (None, None),
            ({f"{HOME}/refind.conf": None}, None),
            (None, {"boot/refind_linux.conf": None}),  # then the fstab tells the root
            ({f"{HOME}/refind.conf": by_hand.encode()}, {"boot/refind_linux.conf": None}),
        ):
            with self.subTest(esp=esp, root=root):
                trace = trace_file(self.disk_of(esp, root))
                self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))

    @needs(*EFI_MAKERS)
    def test_each_way_to_break_it_is_found(self):
        driver = (REFIND / "drivers_x64/ext4_x64.efi").read_bytes()
        place = f"{HOME}/drivers_x64/ext4_x64.efi"
        lost = OPTIONS.replace(ROOT, "dead-beef").encode()
        rows = (
            ({place: None}, None, "manager-menu-unfit", "boot-manager"),
            ({place: driver[:9000]}, None, "manager-menu-unfit", "boot-manager"),
            (None, {"boot/refind_linux.conf": lost}, "root-missing", "kernel"),
            (None, {"boot/initrd.img-6.1.0-ferry": b"x" * 9000}, "initramfs-damaged", "loader"),
            (None, {"boot/vmlinuz-6.1.0-ferry": bytes(70_000)}, "kernel-damaged", "loader"),
            (
                {f"{HOME}/refind.conf": b"scanfor manual\n"},
                None,
                "manager-menu-unfit",
                "boot-manager",
            ),
        )
        for esp, root, kind, phase in rows:
            with self.subTest(kind, esp=list(esp or ()), root=list(root or ())):
                trace = trace_file(self.disk_of(esp, root))
                self.assertEqual((ids(trace, "fatal"), trace.failing_phase), ([kind], phase))
                cut = esp is not None and esp.get(place) is not None
                self.assertEqual("manager-driver-unfit" in ids(trace, "warning"), cut)

    def test_no_text_ends_in_an_error(self):
        for text in (
            "menuentry {\n}",
            "}\n}",
            'menuentry "a\n loader\n}',
            "default_selection",
            "\0",
        ):
            boot_menus.read_refind_settings(text)
            boot_menus.read_refind_options(text)


@needs_refind
class Started(Real):
    @needs(*TOOLS, OVMF, QEMU)
    @needs_real
    def test_a_system_starts_by_it(self):
        entry = (
            f'timeout 1\ntextonly\nscanfor manual\nmenuentry "Ferry" {{\n volume {PART}\n'
            f" loader /boot/vmlinuz-{version()}\n initrd /boot/initrd.img-{version()}\n"
            f' options "ro root=UUID={ROOT_UUID} quiet console=ttyS0"\n}}\n'
        )
        files = {
            f"{HOME}/BOOTX64.EFI": REFIND / "refind_x64.efi",
            f"{HOME}/drivers_x64/ext4_x64.efi": REFIND / "drivers_x64/ext4_x64.efi",
        }
        path = uefi_disk(self.folder / "pc.img", files | {f"{HOME}/refind.conf": entry.encode()})
        tool("sfdisk", "-q", "--part-uuid", path, "2", PART)
        trace = trace_file(path)
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("no-fault-found", []))
        if EVERY:
            self.starts(path, "uefi")


if __name__ == "__main__":
    unittest.main()
