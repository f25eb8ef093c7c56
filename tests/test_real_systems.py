"""Installed systems that really start: each fault made on a copy, traced, mended, and started to
its sign-in prompt.
"""

import gzip
import re
import shutil
import unittest
from pathlib import Path

import zstandard

from tests.machine import OVMF, QEMU, screen_of
from tests.real import (
    MARKER,
    ROOT,
    ROOT_UUID,
    START,
    bios_disk,
    grub_loader,
    menu,
    needs_real,
    uefi_disk,
    version,
    words,
)
from tests.support import (
    EVERY,
    SECTOR,
    InFolder,
    ids,
    needs,
    needs_mounts,
    patch,
    tool,
    trace_file,
)
from tests.systems import STUB

TOOLS = ("sfdisk", "mkfs.fat", "mcopy", "mmd", "grub-mkimage", "debugfs", QEMU)
FALLBACK = "EFI/BOOT/BOOTX64.EFI"
SYSTEMD_BOOT = STUB.with_name("systemd-bootx64.efi")
SHIM = Path("/usr/lib/shim/shimx64.efi")
PANIC = "Kernel panic"


class Real(InFolder):
    def shown(self, path, firmware, *ends, seconds=480, **more):
        """The screen up to the sign-in prompt or another end."""
        text = screen_of(
            path,
            firmware,
            MARKER,
            seconds=seconds,
            memory=768,
            idle=200,
            ends=ends,
            bus=",if=virtio",
            **more,
        )
        return re.sub(r"\s+", " ", text[-6000:])

    def starts(self, path, firmware="bios"):
        shown = self.shown(path, firmware, PANIC, "emergency mode", "(initramfs)")
        self.assertIn(MARKER, shown[-4000:], shown[-900:])

    def starts_too(self, path, firmware="bios"):
        """A mended one that the trace speaks for, where not everything is asked for: a start takes
        a minute.
        """
        if EVERY:
            self.starts(path, firmware)

    def fails(self, path, firmware, *ends):
        """Where everything is asked for, the broken one is started, too; else the trace speaks for
        it, and the mended one is started.
        """
        if not EVERY:
            return
        shown = self.shown(path, firmware, *ends)
        self.assertNotIn(MARKER, shown)
        # a console that moves its cursor in the middle of a word leaves a gap there
        self.assertTrue(
            any(end.replace(" ", "") in shown.replace(" ", "") for end in ends), shown[-900:]
        )

    def traced(self, path, phase, *fatal):
        trace = trace_file(path)
        self.assertEqual(
            (trace.failing_phase, ids(trace, "fatal")),
            (phase, list(fatal)),
            [check.says for check in trace.checks],
        )

    def mended(self, path, *repairs, more=()):
        done = self.json_here(
            "mend", path, *(("--all",) if len(repairs) > 1 else repairs), "--yes", *more
        )
        steps = [one["repair"] for one in done.get("steps", [done])]
        self.assertEqual((done["after"], steps), ("no-fault-found", list(repairs)))


class Bios(Real):
    def disk(self):
        return bios_disk(self.folder / "pc.img")

    def place(self, path, name):
        """Offset of a file's first block on the disk, and its length."""
        volume = f"{path}?offset={START * SECTOR}"
        block = int(tool("debugfs", "-R", f"bmap {name} 0", volume).split()[0])
        size = int(
            re.search(r"Size: (\d+)", tool("debugfs", "-R", f"stat {name}", volume)).group(1)
        )
        return START * SECTOR + block * 4096, size

    @needs(*TOOLS)
    @needs_real
    def test_a_sound_one_starts_and_a_power_cut_leaves_no_fault(self):
        path = self.disk()
        trace = trace_file(path)
        self.assertEqual(
            (trace.verdict, ids(trace, "fatal"), ids(trace, "warning")), ("no-fault-found", [], [])
        )
        bundle = self.folder / "pc.zip"
        gathered = self.json_here("gather", path, "-o", bundle)
        self.assertLess(bundle.stat().st_size, 20 << 20)
        whole = self.folder / "whole.zip"
        kept = self.json_here("gather", path, "-o", whole, "--limit", 32)
        self.assertEqual((gathered["answers"], kept["answers"]), (False, True))
        for sent_on in (bundle, whole):
            for command in ("trace", "crashes"):
                disk, sent = (self.json_here(command, each) for each in (path, sent_on))
                disk.pop("target"), sent.pop("target")
                self.assertEqual(disk, sent, (command, sent_on))
        shown = self.shown(
            path, "bios", PANIC, keep_disk=True
        )  # the machine is killed at the prompt
        self.assertIn(MARKER, shown)
        trace = trace_file(path)
        told = [finding.says for finding in trace.findings]
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("no-fault-found", []), told)
        self.assertEqual(trace.volumes[0].state, "dirty")

    @needs(*TOOLS)
    @needs_real
    def test_boot_record_and_core_overwritten_both_put_back(self):
        path = self.disk()
        patch(path, 0, bytes(440))
        patch(path, SECTOR, bytes(100 * SECTOR))
        self.traced(path, "boot-record", "boot-code-blank")
        self.mended(path, "boot-code")
        at, size = self.place(path, "/boot/grub/grub.cfg")
        text = (
            menu()
            .replace(f"root=UUID={ROOT_UUID}", "root=UUID=5ea00000-0000-4000-8000-0000000000ff")
            .encode()
        )
        self.assertEqual(len(text), size)
        patch(path, at, text)
        patch(path, 0, bytes(440))
        self.traced(path, "boot-record", "boot-code-blank", "root-missing")
        self.mended(path, "boot-code", "root-name")
        self.starts_too(path)

    @needs(*TOOLS)
    @needs_real
    def test_an_initramfs_of_another_kernel_finds_no_root(self):
        path = self.disk()
        name = f"/boot/initrd.img-{version()}"
        packed = (ROOT / name[1:]).read_bytes()
        whole = zstandard.ZstdDecompressor().stream_reader(packed).read()
        ours, other = version().encode(), version().replace("6", "5", 1).encode()
        held = self.folder / "initrd"
        held.write_bytes(gzip.compress(whole.replace(ours, other)))
        volume = f"{path}?offset={START * SECTOR}"
        for request in (f"rm {name}", f"write {held} {name}"):
            tool("debugfs", "-w", "-R", request, volume)
        self.traced(path, "loader", "initramfs-other-kernel")
        self.fails(path, "bios", "(initramfs)")

    @needs(*TOOLS)
    @needs_real
    def test_a_disk_that_ends_inside_the_root(self):
        path = self.disk()
        with path.open("r+b") as file:
            file.truncate(path.stat().st_size * 3 // 4 // SECTOR * SECTOR)
        self.traced(path, "kernel", "root-cut-short")
        self.fails(path, "bios", "(initramfs)", PANIC)

    @needs(*TOOLS)
    @needs_real
    def test_a_menu_overwritten_is_written_anew(self):
        path = self.disk()
        at, size = self.place(path, "/boot/grub/grub.cfg")
        patch(path, at, b"\n" * size)
        self.traced(path, "boot-manager", "grub-menu-empty")
        self.fails(path, "bios", "grub>")
        self.mended(path, "boot-entries")
        self.starts_too(path)

    @needs(*TOOLS)
    @needs_real
    def test_an_init_overwritten_is_put_back_from_the_systems_own_cache(self):
        path = self.disk()
        at, _ = self.place(path, "/usr/lib/systemd/systemd")
        patch(path, at, bytes(4096))
        self.traced(path, "kernel", "init-damaged")
        self.fails(path, "bios", PANIC, "can't execute", "No working init", "(initramfs)")
        listed = self.json_here("files", path)
        rows = [(file["state"], file["package"], file["copy"]) for file in listed["files"]]
        self.assertEqual(rows, [("differs", "systemd", True)])
        self.assertGreater(listed["checked"], 500)
        self.mended(path, "file-restore")
        self.starts_too(path)

    @needs(*TOOLS)
    @needs_real
    def test_libraries_and_modules_without_which_nobody_gets_in(self):
        path, lib = self.disk(), "/usr/lib/x86_64-linux-gnu"
        volume = f"{path}?offset={START * SECTOR}"
        sound = path.with_suffix(".sound")
        shutil.copy(path, sound)
        rows = (
            (f"rm {lib}/libmount.so.1.1.0", 0, "init-library-unfit", "libmount.so.1"),
            (f"set_inode_field {lib}/libcrypto.so.3 size 1000000", 0, "init-library-unfit", "cut"),
            (f"{lib}/libaudit.so.1.0.0", 18, "init-library-unfit", "another kind of machine"),
            (f"{lib}/libseccomp.so.2.5.4", 0, "init-library-unfit", "no library"),
            (f"{lib}/libkmod.so.2.4.0", 900, "part-differs", "libkmod2"),
            (f"rm {lib}/security/pam_unix.so", 0, "sign-in-module-unfit", "common-auth"),
            ("rm /usr/bin/login", 0, "login-unfit", "not there"),
        )
        for change, at, kind, says in rows:
            with self.subTest(change):
                shutil.copy(sound, path)
                if change.startswith("/"):
                    patch(path, self.place(path, change)[0] + at, b"\x28\xa5")
                else:
                    tool("debugfs", "-w", "-R", change, volume)
                trace = trace_file(path)
                found = next(each for each in trace.findings if each.id == kind)
                phase = {"init-library-unfit": "kernel", "part-differs": None}.get(kind, "session")
                self.assertEqual(trace.failing_phase, phase)
                self.assertIn(says, found.says)

    @needs(*TOOLS)
    @needs_mounts
    @needs_real
    def test_an_init_that_may_not_be_run_may_be_run_again(self):
        path = self.disk()
        volume, init = f"{path}?offset={START * SECTOR}", "/usr/lib/systemd/systemd"
        tool("debugfs", "-w", "-R", f"set_inode_field {init} mode 0100644", volume)
        self.traced(path, "kernel", "init-not-executable")
        self.mended(path, "file-restore", more=("--mount",))

    @needs(*TOOLS)
    @needs_real
    def test_what_the_screen_shows_is_not_where_it_fails(self):
        path = self.disk()
        at, _ = self.place(path, f"/boot/initrd.img-{version()}")
        patch(path, at, bytes(8192))
        self.traced(path, "loader", "initramfs-damaged")
        self.fails(path, "bios", "Unable to mount root fs")

    @needs(*TOOLS)
    @needs_real
    def test_a_goal_that_points_at_nothing(self):
        path = self.disk()
        volume = f"{path}?offset={START * SECTOR}"
        tool(
            "debugfs",
            "-w",
            "-R",
            "symlink /etc/systemd/system/default.target /usr/lib/systemd/system/gone.target",
            volume,
        )
        tool("debugfs", "-w", "-R", "unlink /usr/lib/systemd/system/default.target", volume)
        self.traced(path, "session", "goal-missing")


class MoreBios(Real):
    def disk(self):
        return bios_disk(self.folder / "pc.img")

    @needs(*TOOLS, "e2fsck")
    @needs_real
    def test_a_root_without_its_superblock(self):
        path = self.disk()
        patch(path, START * SECTOR + 1024, bytes(1024))
        self.traced(path, "boot-manager", "grub-prefix-unreadable")
        self.mended(path, "superblock")
        self.shown(
            path, "bios", "Restarting system", keep_disk=True
        )  # checks its volume, mends it, starts again
        self.starts_too(path)

    @needs(*TOOLS)
    @needs_real
    def test_a_mount_that_is_not_there_and_a_kernel_that_is_gone(self):
        path = self.disk()
        volume, table = f"{path}?offset={START * SECTOR}", self.folder / "fstab"
        wrong = (
            "UUID=5ea00000-0000-4000-8000-0000000000ff /cargo ext4 x-systemd.device-timeout=2s"
            " 0 2\n"
        )
        table.write_text((ROOT / "etc/fstab").read_text() + wrong)
        tool("debugfs", "-w", "-R", "rm /etc/fstab", volume)
        tool("debugfs", "-w", "-R", f"write {table} /etc/fstab", volume)
        self.traced(path, "session", "mount-missing")
        self.fails(path, "bios", "emergency mode", "Dependency failed for")
        tool("debugfs", "-w", "-R", f"rm /boot/vmlinuz-{version()}", volume)
        self.traced(path, "loader", "kernel-missing", "mount-missing")
        self.fails(path, "bios", "not found")

    @needs(*TOOLS, "sgdisk")
    @needs_real
    def test_a_core_in_a_partition_of_its_own(self):
        path = self.disk()
        volume, core = f"{path}?offset={START * SECTOR}", self.folder / "core"
        modules = ["biosdisk", "part_gpt", "ext2"]
        tool("grub-mkimage", "-O", "i386-pc", "-p", "(hd0,gpt2)/boot/grub", "-o", core, *modules)
        tool("debugfs", "-w", "-R", "rm /boot/grub/i386-pc/core.img", volume)
        tool("debugfs", "-w", "-R", f"write {core} /boot/grub/i386-pc/core.img", volume)
        root = path.read_bytes()[START * SECTOR :]
        path.write_bytes(bytes(len(root) + (START + 2048) * SECTOR))
        tool("sgdisk", "-a", "1", "-n", "1:40:2047", "-t", "1:ef02", "-n", f"2:{START}:0", path)
        patch(path, START * SECTOR, root)
        self.traced(path, "boot-record", "boot-code-blank")
        self.mended(path, "boot-code")
        self.starts_too(path)


class Uefi(Real):
    @needs(*TOOLS, OVMF)
    @needs_real
    def test_grub_that_only_an_entry_would_start(self):
        loader = grub_loader(self.folder / "grub.efi")
        path = uefi_disk(
            self.folder / "pc.img",
            {"EFI/ferry/grubx64.efi": loader, "EFI/ferry/grub.cfg": menu().encode()},
        )
        self.assertIn("efi-entry-needed", ids(trace_file(path)))
        self.mended(path, "boot-files")
        self.starts_too(path, "uefi")

    @needs(*TOOLS, OVMF, SYSTEMD_BOOT)
    @needs_real
    def test_entries_lost_and_written_anew_with_the_kernel_copied(self):
        path = uefi_disk(self.folder / "pc.img", {FALLBACK: SYSTEMD_BOOT})
        self.traced(path, "boot-manager", "boot-entries-missing")
        self.mended(path, "boot-entries")
        self.starts_too(path, "uefi")

    @needs(*TOOLS, OVMF, STUB, "objcopy")
    @needs_real
    def test_a_unified_kernel(self):
        release, line = self.folder / "release", self.folder / "line"
        release.write_bytes((ROOT / "etc/os-release").read_bytes())
        line.write_text(words())
        boot = ROOT / "boot"
        parts = (
            (".osrel", release, 0x20000),
            (".cmdline", line, 0x30000),
            (".linux", boot / f"vmlinuz-{version()}", 0x2000000),
            (".initrd", boot / f"initrd.img-{version()}", 0x4000000),
        )
        more = []
        for name, file, at in parts:
            more += ["--add-section", f"{name}={file}", "--change-section-vma", f"{name}={at:#x}"]
        made = self.folder / "linux.efi"
        tool("objcopy", *more, STUB, made)
        path = uefi_disk(self.folder / "pc.img", {FALLBACK: made})
        trace = trace_file(path)
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("no-fault-found", []))
        self.starts(path, "uefi")
        half = made.read_bytes()[: made.stat().st_size // 2]
        self.traced(
            uefi_disk(self.folder / "half.img", {FALLBACK: half}),
            "boot-record",
            "efi-loader-damaged",
        )

    @needs(*TOOLS, OVMF, SHIM)
    @needs_real
    def test_shim_and_the_loader_behind_it(self):
        grub = grub_loader(self.folder / "grub.efi")
        inside = {
            FALLBACK: SHIM,
            "EFI/BOOT/grubx64.efi": grub,
            "EFI/ferry/grub.cfg": menu().encode(),
        }
        path = uefi_disk(self.folder / "pc.img", inside)
        self.assertEqual(trace_file(path).verdict, "no-fault-found")
        self.starts_too(path, "uefi")
        del inside["EFI/BOOT/grubx64.efi"]
        path = uefi_disk(self.folder / "pc.img", inside)
        self.traced(path, "boot-manager", "second-loader-missing")
        self.fails(path, "uefi", "Failed to open", "start_image() returned", "Not Candidate")


class Tree(Real):
    @needs_real
    def test_the_same_system_as_a_mounted_tree(self):
        trace = self.json_here("trace", ROOT)
        self.assertEqual((trace["verdict"], trace["unread"]["phase"]), ("unsure", "firmware"))
        self.assertEqual(self.json_here("files", ROOT)["files"], [])


if __name__ == "__main__":
    unittest.main()
