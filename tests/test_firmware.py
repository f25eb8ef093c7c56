"""Real firmware decides: SeaBIOS and OVMF under QEMU start sound, broken and mended disks.

The sample disks tell how much each fault matters; GRUB, systemd-boot and a real kernel show that
what was mended starts.
"""

import shutil
import unittest
from pathlib import Path

from mending.repair.boot import own_code
from mending.workshop import BIOS_FAULTS, MARKER, UEFI_FAULTS, bios_disk, uefi_disk
from tests.machine import OVMF, QEMU, starts
from tests.support import (
    EVERY,
    GRUB_FILES,
    SECTOR,
    START,
    InFolder,
    needs,
    part_of,
    patch,
    refused,
    sha,
    tool,
    trace_file,
)

KERNEL = next(
    iter(sorted(Path("/boot").glob("vmlinuz-*-cloud-amd64"))), Path("/boot/vmlinuz-cloud-amd64")
)
BUSYBOX = Path("/bin/busybox")
SYSTEMD_BOOT = Path("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
UP = "Skerrivane desk: the system is up"
MENDABLE = {
    "blank-boot-code",
    "blank-boot-sector",
    "boot-sector-without-signature",
    "blank-volume-code",
}
MENDABLE |= {"no-table", "no-active-entry", "two-active-entries"}
MENDABLE |= {
    "wrong-hidden-sectors",
    "no-protective-record",
    "no-protective-entry",
    "blank-efi-boot-sector",
}
MENDABLE |= {"blank-first-fat", "first-fat-breaks-loader"}


STARTED = {"blank-boot-code", "blank-efi-boot-sector"}
"""Those that are started again here once they are mended; with `MENDING_EVERY_FAULT` all are."""


class Grades(InFolder):
    """Fatal means that the start really stops; a warning is got past. And what can be mended starts
    afterwards.
    """

    def check(self, firmware, name, draft):
        path = self.folder / f"{name}.img"
        draft.save(path)
        before = sha(path)
        trace = trace_file(path)
        self.assertIn(trace.firmware, (firmware, "unknown"))
        works = starts(path, firmware, MARKER)
        self.assertEqual(
            works,
            trace.failing_phase is None,
            f"{name}: {[finding.id for finding in trace.findings]}",
        )
        self.assertEqual(sha(path), before)
        if not works and name in (MENDABLE if EVERY else STARTED):
            self.run_here("mend", path, "--all", "--yes")
            self.assertTrue(starts(path, firmware, MARKER), f"{name} mended")
        return works

    @needs(QEMU)
    def test_every_bios_fault_is_graded_as_seabios_and_boot_code_treat_it(self):
        self.assertTrue(self.check("bios", "sound", bios_disk(own_code())))
        for name, fault in BIOS_FAULTS.items():
            with self.subTest(name):
                draft = bios_disk(own_code())
                fault(draft)
                self.check("bios", name, draft)

    @needs(QEMU, OVMF)
    def test_every_uefi_fault_is_graded_as_ovmf_treats_it(self):
        self.assertTrue(self.check("uefi", "sound", uefi_disk()))
        for name, fault in part_of(UEFI_FAULTS.items(), 3):
            with self.subTest(name):
                draft = uefi_disk()
                fault(draft)
                self.check("uefi", name, draft)


class RealSystems(InFolder):
    """Broken: the marker of the running system is not reached. Mended by `mend --all --yes`: it
    is.
    """

    def initramfs(self):
        tree = self.folder / "initramfs"
        (tree / "bin").mkdir(parents=True)
        shutil.copy(BUSYBOX, tree / "bin" / "busybox")
        init = tree / "init"
        init.write_text(f'#!/bin/busybox sh\n/bin/busybox echo "{UP}"\n/bin/busybox poweroff -f\n')
        init.chmod(0o755)
        out = self.folder / "initrd"
        tool("sh", "-c", f"cd {tree} && find . | cpio -o -H newc --quiet > {out}")
        return out

    def menu(self, root):
        options = "console=ttyS0 panic=1"
        return (
            f"serial\nterminal_output serial\nset root={root}\nlinux /vmlinuz {options}\ninitrd"
            " /initrd\nboot\n"
        )

    def check(self, path, firmware, *breaks):
        if EVERY:  # else the mended one shows it
            self.assertTrue(starts(path, firmware, UP, seconds=240, memory=1024, idle=40), "sound")
        self.assertIsNone(trace_file(path).failing_phase)
        sound = sha(path)
        for offset, data in breaks:
            patch(path, offset, data)
        broken = sha(path)
        self.assertEqual(trace_file(path).verdict, "fails")
        if EVERY:  # what is fatal is started in the test below, and by the sample disks
            self.assertFalse(starts(path, firmware, UP, memory=1024, idle=25), "broken")
        done = self.json_here("mend", path, "--all", "--yes")
        self.assertEqual((refused(done), done["failing_after"]), ("", None))
        self.assertTrue(starts(path, firmware, UP, seconds=240, memory=1024, idle=40), "mended")
        mended = sha(path)
        for _ in done["steps"]:
            self.run_here("undo", path)
        self.assertEqual(sha(path), broken)
        return sound == mended

    def efi_disk(self, *files):
        path = self.folder / "efi.img"
        path.write_bytes(bytes(128 << 20))
        tool(
            "sfdisk",
            "-q",
            path,
            stdin=f"label: gpt\nstart={START},size=200000,type=uefi,name=EFI\n",
        )
        tool("mkfs.fat", "-F", "32", "-s", "1", "--offset", START, "-h", START, path, 100000)
        inside = f"{path}@@{START * SECTOR}"
        for folder in ("EFI", "EFI/BOOT", "EFI/desk", "loader", "loader/entries"):
            tool("mmd", "-i", inside, f"::{folder}")
        for source, name in (*files, (KERNEL, "vmlinuz"), (self.initramfs(), "initrd")):
            tool("mcopy", "-i", inside, source, f"::{name}")
        return path

    def grub_disk(self, changes=None):
        """A BIOS disk with GRUB in the gap, and an ext4 volume with its files; changes: contents by
        path.
        """
        path = self.partitioned("grub", f"start={START},size=150000,type=83,bootable", mib=80)
        tree = self.folder / "tree"
        shutil.rmtree(tree, ignore_errors=True)
        (tree / "boot" / "grub" / "i386-pc").mkdir(parents=True)
        (tree / "boot" / "grub" / "grub.cfg").write_text(self.menu("(hd0,msdos1)"))
        shutil.copy(GRUB_FILES / "boot.img", tree / "boot" / "grub" / "i386-pc")
        shutil.copy(KERNEL, tree / "vmlinuz")
        if not (self.folder / "initrd").exists():
            self.initramfs()
        shutil.copy(self.folder / "initrd", tree / "initrd")
        for name, change in (changes or {}).items():
            data = change((tree / name).read_bytes())
            (tree / name).unlink()
            if data is not None:
                (tree / name).write_bytes(data)
        core = self.folder / "core"
        modules = [
            "biosdisk",
            "part_msdos",
            "ext2",
            "normal",
            "linux",
            "serial",
            "terminal",
            "configfile",
        ]
        tool("grub-mkimage", "-O", "i386-pc", "-o", core, "-p", "(hd0,msdos1)/boot/grub", *modules)
        tool(
            "mke2fs",
            "-q",
            "-t",
            "ext4",
            "-d",
            tree,
            "-E",
            f"offset={START * SECTOR}",
            path,
            "70000k",
        )
        patch(path, 0, (GRUB_FILES / "boot.img").read_bytes()[:440])
        patch(path, 0x66, b"\x90\x90")
        patch(path, SECTOR, core.read_bytes())
        return path

    @needs(
        QEMU, "sfdisk", "mke2fs", "grub-mkimage", GRUB_FILES / "boot.img", KERNEL, BUSYBOX, "cpio"
    )
    def test_bios_grub_and_kernel(self):
        path = self.grub_disk()
        self.assertTrue(
            self.check(path, "bios", (0, bytes(440))), "mended is the sound image, bit for bit"
        )

    @needs(
        QEMU, "sfdisk", "mke2fs", "grub-mkimage", GRUB_FILES / "boot.img", KERNEL, BUSYBOX, "cpio"
    )
    def test_what_is_fatal_behind_grubs_core_stops_the_machine(self):
        def half(data):
            return data[: len(data) // 2]

        rows = (
            ("boot-manager", {"boot/grub/grub.cfg": lambda _: None}),
            ("loader", {"vmlinuz": half}),
            ("loader", {"initrd": half}),
            ("loader", {"vmlinuz": lambda _: None}),
            ("loader", {"initrd": lambda _: None}),
        )
        for phase, changes in rows if EVERY else rows[:2]:
            with self.subTest(phase, changed=list(changes)):
                path = self.grub_disk(changes)
                self.assertEqual(trace_file(path).failing_phase, phase)
                self.assertFalse(starts(path, "bios", UP, seconds=60, memory=1024, idle=12))
        path = self.grub_disk()
        for place in (40_000, 90_000):
            patch(path, SECTOR + place, bytes([path.read_bytes()[SECTOR + place] ^ 16]))
            self.assertEqual(trace_file(path).fatal[0].id, "grub-core-damaged")
        self.assertFalse(starts(path, "bios", UP, seconds=40, memory=1024, idle=12))

    @needs(
        QEMU, OVMF, "sfdisk", "mkfs.fat", "mcopy", "sgdisk", SYSTEMD_BOOT, KERNEL, BUSYBOX, "cpio"
    )
    def test_uefi_systemd_boot_and_kernel(self):
        entry = self.folder / "desk.conf"
        entry.write_text(
            "title Ticket desk\nlinux /vmlinuz\ninitrd /initrd\noptions console=ttyS0 panic=1\n"
        )
        path = self.efi_disk(
            (SYSTEMD_BOOT, "EFI/BOOT/BOOTX64.EFI"), (entry, "loader/entries/desk.conf")
        )
        last = path.stat().st_size - SECTOR
        faults = ((446, bytes(66)), (last, bytes(SECTOR)), (START * SECTOR, bytes(SECTOR)))
        table = tool("sfdisk", "--dump", path)
        self.check(path, "uefi", *faults)
        self.json_here("mend", path, "--all", "--yes")
        self.assertEqual(tool("sfdisk", "--dump", path), table)
        self.assertIn("No problems found", tool("sgdisk", "--verify", path))
        self.assertIn(
            "BOOTX64", tool("mdir", "-b", "-i", f"{path}@@{START * SECTOR}", "::EFI/BOOT")
        )
        tool("mdel", "-i", f"{path}@@{START * SECTOR}", "::vmlinuz")
        trace = trace_file(path)
        self.assertEqual(
            (trace.failing_phase, trace.fatal[0].id), ("boot-manager", "kernel-missing")
        )
        self.assertFalse(starts(path, "uefi", UP, seconds=40, memory=1024, idle=12))

    @needs(QEMU, OVMF, "sfdisk", "mkfs.fat", "mcopy", "grub-mkimage", KERNEL, BUSYBOX, "cpio")
    def test_uefi_grub_and_kernel(self):
        menu, loader = self.folder / "grub.cfg", self.folder / "grub.efi"
        menu.write_text(self.menu("(hd0,gpt1)"))
        modules = ["part_gpt", "fat", "normal", "linux", "serial", "terminal", "configfile"]
        tool(
            "grub-mkimage", "-O", "x86_64-efi", "-o", loader, "-p", "(hd0,gpt1)/EFI/desk", *modules
        )
        path = self.efi_disk((loader, "EFI/BOOT/BOOTX64.EFI"), (menu, "EFI/desk/grub.cfg"))
        self.assertTrue(
            self.check(path, "uefi", (START * SECTOR, b"ferry" * 100), (SECTOR, bytes(33 * SECTOR)))
        )


if __name__ == "__main__":
    unittest.main()
