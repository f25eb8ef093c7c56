"""What a loader file leads to: unified kernels, shim, a kernel that firmware starts itself, menus
that hand over.
"""

import struct
import unittest
from pathlib import Path

from mending.formats import pe
from mending.model import Window
from tests.support import SECTOR, ids, made_kernel, needs, patch, tool, trace_file
from tests.systems import (
    EFI_MAKERS,
    MAKERS,
    MENU,
    MODULES,
    ROOT,
    ROOT_PART,
    ROOT_START,
    STUB,
    VERSION,
    EfiSystems,
)

FALLBACK = "EFI/BOOT/BOOTX64.EFI"
SHIM = Path("/usr/lib/shim/shimx64.efi")
SYSTEMD_BOOT = Path("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")


class Unified(EfiSystems):
    @needs(*EFI_MAKERS, STUB, "objcopy")
    def test_one_that_firmware_starts_is_followed_to_the_sign_in(self):
        trace = trace_file(self.efi_disk({FALLBACK: self.unified()}))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        says = " ".join(check.says for check in trace.checks)
        for wanted in (
            f"BOOTX64.EFI (.linux) is sound, version {VERSION}",
            "(.initrd) (gzip, 2 files)",
            "root is volume 2",
        ):
            self.assertIn(wanted, says)

    @needs(*EFI_MAKERS, STUB, "objcopy")
    def test_each_part_of_one_that_is_damaged_is_found(self):
        whole = self.unified()
        rows = (
            (["initramfs-damaged"], "loader", self.unified(initrd=b"ferry" * 500)),
            (["kernel-damaged"], "loader", self.unified(kernel=made_kernel()[:20_000])),
            (["kernel-damaged"], "loader", self.unified(kernel=b"no kernel" * 400)),
            (["root-missing"], "kernel", self.unified(words="root=PARTUUID=5ea0-dead")),
            (["efi-loader-damaged"], "boot-record", whole[: len(whole) // 2]),
        )
        for expected, phase, data in rows:
            trace = trace_file(self.efi_disk({FALLBACK: data}))
            self.assertEqual((ids(trace, "fatal"), trace.failing_phase), (expected, phase))

    @needs(*EFI_MAKERS, STUB, "objcopy")
    def test_every_form_of_the_roots_name(self):
        path = self.efi_disk({FALLBACK: self.unified()})
        rows = (
            (f"UUID={ROOT}", "UUID=5ea0-dead"),
            (f"PARTUUID={ROOT_PART}", "PARTUUID=5ea0-dead"),
            ("LABEL=FERRY", "LABEL=FERRO"),
            ("PARTLABEL=ferry-root", "PARTLABEL=ferro"),
            ("/dev/disk/by-partuuid/" + ROOT_PART, "/dev/disk/by-partuuid/5ea0-dead"),
        )
        for right, wrong in rows:
            for name, expected in ((right, []), (wrong, ["root-missing"])):
                with self.subTest(name):
                    self.put(path, FALLBACK, self.unified(words=f"root={name}"))
                    self.assertEqual(ids(trace_file(path), "fatal"), expected)
        self.put(path, FALLBACK, self.unified(words="root=/dev/sda2"))
        trace = trace_file(path)
        self.assertEqual((ids(trace, "fatal"), ids(trace)), ([], ["root-name-fragile"]))
        self.put(path, FALLBACK, self.unified(words="root=/dev/sda7"))
        self.assertEqual(trace_file(path).verdict, "unsure")

    @needs(*EFI_MAKERS, STUB, "objcopy", SYSTEMD_BOOT)
    def test_a_manager_shows_them_beside_other_entries(self):
        manager = {FALLBACK: SYSTEMD_BOOT.read_bytes()}
        nameless = {"EFI/Linux/b.efi": self.unified(release=b"")}
        unified = {"EFI/Linux/a.efi": self.unified()}
        trace = trace_file(self.efi_disk({**manager, **unified, **nameless}))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", ["boot-entry-hidden"]))
        self.assertIn(
            "'Ferry Linux 3' starts by itself", " ".join(check.says for check in trace.checks)
        )
        trace = trace_file(self.efi_disk({**manager, **nameless}))
        self.assertEqual(
            (ids(trace, "fatal"), trace.failing_phase), (["kernel-missing"], "boot-manager")
        )
        newer = {
            "EFI/Linux/c.efi": self.unified(
                words="root=UUID=dead-beef", release=b"ID=ferry\nNAME=N\nVERSION_ID=10\n"
            )
        }
        trace = trace_file(self.efi_disk({**manager, **unified, **newer}))
        self.assertEqual(ids(trace, "fatal"), ["root-missing"])
        chosen = {"loader/loader.conf": b"default a.efi\n"}
        self.assertEqual(
            ids(trace_file(self.efi_disk({**manager, **unified, **newer, **chosen}))), []
        )


class Entries(EfiSystems):
    @needs(*EFI_MAKERS, SYSTEMD_BOOT)
    def test_a_kernel_that_firmware_would_not_load(self):
        entry = f"title Ferry\nlinux /linux\ninitrd /initrd\noptions root=UUID={ROOT} ro\n".encode()
        whole, initrd = made_kernel(version=VERSION), self.tree()["boot/initrd"]
        inside = {
            FALLBACK: SYSTEMD_BOOT.read_bytes(),
            "loader/entries/a.conf": entry,
            "initrd": initrd,
        }
        self.assertEqual(ids(trace_file(self.efi_disk({**inside, "linux": whole}))), [])
        for data in (
            bytes(64) + whole[64:],
            made_kernel(machine=0xAA64),
            whole[:0x108] + b"\xff" * 4 + whole[0x10C:],
        ):
            trace = trace_file(self.efi_disk({**inside, "linux": data}))
            self.assertEqual(
                (ids(trace, "fatal"), trace.failing_phase), (["kernel-damaged"], "loader")
            )

    @needs(*EFI_MAKERS, SYSTEMD_BOOT, "mkfs.btrfs")
    def test_a_root_of_which_one_device_is_missing_cannot_be_read(self):
        entry = f"title Ferry\nlinux /linux\ninitrd /initrd\noptions root=UUID={ROOT} ro\n".encode()
        inside = {
            FALLBACK: SYSTEMD_BOOT.read_bytes(),
            "loader/entries/a.conf": entry,
            "linux": made_kernel(),
            "initrd": self.tree()["boot/initrd"],
        }
        path, volume = self.efi_disk(inside, {"etc/x": b""}), self.folder / "btrfs"
        other = self.folder / "elsewhere"
        for half in (volume, other):
            half.write_bytes(bytes(58 << 20))
        tool("mkfs.btrfs", "-q", "-M", "-U", ROOT, volume, other)
        patch(path, ROOT_START * SECTOR, volume.read_bytes())
        trace = trace_file(path)
        states = {phase.id: phase.state for phase in trace.phases}
        self.assertEqual(
            (states["kernel"], trace.verdict, ids(trace, "fatal")), ("not-checked", "unsure", [])
        )


class Others(EfiSystems):
    def grub(self, prefix="/EFI/desk", modules=MODULES):
        made = self.folder / "grub.efi"
        tool(
            "grub-mkimage",
            "-O",
            "x86_64-efi",
            "-o",
            made,
            "-p",
            prefix,
            "part_gpt",
            "fat",
            "ext2",
            *modules,
        )
        return made.read_bytes()

    def menu(self):
        return {"EFI/desk/grub.cfg": MENU.encode()}

    @needs(*EFI_MAKERS, SHIM, "grub-mkimage")
    def test_shim_hands_over_to_the_loader_beside_it(self):
        shim, grub = SHIM.read_bytes(), self.grub()
        beside = {FALLBACK: shim, "EFI/BOOT/grubx64.efi": grub, **self.menu()}
        trace = trace_file(self.efi_disk(beside))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        self.assertIn(
            "hands over to /EFI/BOOT/grubx64.efi, which is sound",
            " ".join(check.says for check in trace.checks),
        )
        for change, expected in (
            (None, "second-loader-missing"),
            (grub[:9000], "second-loader-damaged"),
        ):
            inside = {**beside, "EFI/BOOT/grubx64.efi": change}
            trace = trace_file(
                self.efi_disk({name: data for name, data in inside.items() if data is not None})
            )
            self.assertEqual(
                (ids(trace, "fatal"), trace.failing_phase), ([expected], "boot-manager")
            )

    @needs(*EFI_MAKERS, SHIM, "grub-mkimage")
    def test_shim_in_the_fallback_place_reads_the_list_of_entries(self):
        inside = {
            FALLBACK: SHIM.read_bytes(),
            "EFI/BOOT/fbx64.efi": Path("/usr/lib/shim/fbx64.efi").read_bytes(),
            "EFI/desk/BOOTX64.CSV": "shimx64.efi,desk,,Ticket desk\n".encode("utf-16"),
            "EFI/desk/shimx64.efi": SHIM.read_bytes(),
            "EFI/desk/grubx64.efi": self.grub(),
            **self.menu(),
        }
        trace = trace_file(self.efi_disk(inside))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        del inside["EFI/desk/shimx64.efi"]
        self.assertEqual(ids(trace_file(self.efi_disk(inside)), "fatal"), ["second-loader-missing"])

    @needs(*EFI_MAKERS, "grub-mkimage", STUB, "objcopy")
    def test_a_menu_that_hands_over_is_followed(self):
        menu = (
            b"menuentry Desk {\n search --file --set=root /EFI/Linux/a.efi\n chainloader"
            b" /EFI/Linux/a.efi\n}\n"
        )
        inside = {
            FALLBACK: self.grub(),
            "EFI/desk/grub.cfg": menu,
            "EFI/Linux/a.efi": self.unified(),
        }
        trace = trace_file(self.efi_disk(inside))
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        inside["EFI/Linux/a.efi"] = self.unified(initrd=b"x" * 999)
        self.assertEqual(ids(trace_file(self.efi_disk(inside)), "fatal"), ["initramfs-damaged"])
        inside["EFI/Linux/a.efi"] = b"nothing"
        self.assertEqual(ids(trace_file(self.efi_disk(inside)), "fatal"), ["second-loader-damaged"])

    @needs(*MAKERS)
    def test_a_menu_that_hands_over_to_a_boot_sector(self):
        menu = {
            "boot/grub/grub.cfg": b"menuentry Old {\n set root=(hd0,msdos1)\n chainloader +1\n}\n"
        }
        self.check(["volume-boot-code-blank"], "loader", menu)
        gone = {
            "boot/grub/grub.cfg": b"menuentry Old {\n set root=(hd0,msdos4)\n chainloader +1\n}\n"
        }
        self.check(["kernel-volume-missing"], "loader", gone)


class Sections(unittest.TestCase):
    def test_a_section_that_says_more_than_is_there(self):
        image = pe.Image(
            0x8664,
            10,
            (pe.Section(b".linux\0\0", 900, 0, 500, 90), pe.Section(b".x", 4, 0, 50, 10)),
        )
        self.assertEqual(pe.section(bytes(100), image, b".linux"), bytes(10))
        self.assertEqual(pe.section(bytes(100), image, b".x"), bytes(4))
        self.assertIsNone(pe.section(bytes(100), image, b".initrd"))
        self.assertTrue(pe.read(Window(b"MZ" + bytes(58) + struct.pack("<I", 2**31))).problems)


if __name__ == "__main__":
    unittest.main()
