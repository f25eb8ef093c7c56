"""Crashes in kernel logs: real kernels made to stop in four ways, a sound start, other forms,
hostile files.
"""

import json
import subprocess
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.crash.read import Reader
from mending.formats import kernel_text
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from tests.machine import QEMU
from tests.support import InFolder, needs, tool

KERNEL = next(
    iter(sorted(Path("/boot").glob("vmlinuz-*-cloud-amd64"))), Path("/boot/vmlinuz-cloud-amd64")
)
BUSYBOX = Path("/bin/busybox")
OOPS = """[  120.500000] ferry_till: reading till 2
[  121.000100] BUG: kernel NULL pointer dereference, address: 0000000000000018
[  121.000200] #PF: supervisor read access in kernel mode
[  121.000300] Oops: 0000 [#1] PREEMPT SMP NOPTI
[  121.000400] CPU: 1 PID: 812 Comm: till-poll Tainted: G           OE      6.1.0-ferry #1 desk
[  121.000500] RIP: 0010:till_read+0x2c/0x80 [ferry_till]
[  121.000600] Call Trace:
[  121.000700]  <TASK>
[  121.000800]  ? show_regs+0x1/0x2
[  121.000900]  till_poll+0x11/0x40 [ferry_till]
[  121.001000]  process_one_work+0x1c5/0x380
[  121.001100]  </TASK>
[  121.001200] ---[ end trace 0000000000000000 ]---
[  125.000000] Kernel panic - not syncing: Fatal exception in interrupt
[  125.100000] ---[ end Kernel panic - not syncing: Fatal exception in interrupt ]---
"""
DARWIN = (
    "*** Panic Report ***\n"
    "panic(cpu 2 caller 0xffffff8012a3b4c5): Kernel trap at 0xffffff7f94a01234, type"
    " 14=page fault, registers:\n"
    "CR0: 0x000000008001003b, CR2: 0x0000000000000018\n"
    "Backtrace (CPU 2), Frame : Return Address\n"
    "0xffffff921a5b3a90 : 0xffffff80128b6a5d\n"
    "0xffffff921a5b3ae0 : 0xffffff80129f2a35\n"
    "      Kernel Extensions in backtrace:\n"
    "         org.skerrivane.driver.Till(1.4.2)[0A1B2C3D-0000-0000-0000-000000000000]"
    "@0xffffff7f94a00000->0xffffff7f94a0ffff\n"
    "            dependency: com.maker.iokit.IOUSBHostFamily(1.2)[0A1B]@0xffffff7f93000000\n"
    "            dependency: com.maker.iokit.IOPCIFamily(2.9)[0A1B]@0xffffff7f93100000\n"
    "         com.maker.iokit.IOUSBHostFamily(1.2)[0A1B2C3D]"
    "@0xffffff7f93000000->0xffffff7f930fffff\n"
    "\n"
    "BSD process name corresponding to current thread: kernel_task\n"
    "Darwin Kernel Version 19.6.0: Thu Nov 19 2026\n"
    "System uptime in nanoseconds: 4812345678901\n"
    "last loaded kext at 4800000000000: org.skerrivane.driver.Till\t1.4.2 (addr"
    " 0xffffff7f94a00000, size 65536)\n"
    "last unloaded kext at 120000000000: com.maker.driver.AudioAUUC\t1.70 (addr"
    " 0xffffff7f95000000, size 4096)\n"
    "loaded kexts:\n"
    "com.maker.driver.Beep\t1.1.0\n"
    "com.maker.driver.Lid\t1.1.0\n"
)
SOUND = (
    """[ 1.0] error: 0, failed: 0; no panic, nothing oopsed
[ 2.0] ata1: failed to resume link, retried, fine
[ 3.0] systemd[1]: Failed to start Ticket printer. The ferry's kernel did not panic.
Nov 23 10:00:00 desk app: BUG report form sent; Out of memory cards sold
"""
    * 50
)


def read(text):
    data = text if isinstance(text, bytes) else text.encode()
    reads = Reader(base_codes(), base_events()).read("log", MemorySource(data), 1_795_000_000.0)
    return [crash for read in reads for crash in read.crashes]


class Forms(InFolder):
    def test_an_oops_and_the_panic_behind_it_are_one_crash(self):
        found = read("x\n" * 3000 + OOPS + "y\n" * 300 + OOPS)
        self.assertEqual(
            [(crash.kind, crash.line) for crash in found], [("panic", 3002), ("panic", 3317)]
        )
        crash = found[0]
        self.assertEqual(
            (crash.symbol, crash.module, crash.program, crash.version),
            ("till_read", "ferry_till", "till-poll", "6.1.0-ferry"),
        )
        self.assertEqual((crash.seconds, crash.taint, len(crash.marks)), (121.0001, "OE", 2))
        self.assertIn("NULL pointer", crash.reason)
        self.assertEqual(crash.trace, ("till_poll [ferry_till]", "process_one_work"))
        self.assertEqual(crash.suspects[0], "driver")

    def test_what_stands_in_front_of_lines_does_not_matter(self):
        for front in (
            "<4>",
            "Nov 23 10:00:01 desk kernel: ",
            "2026-11-23T10:00:01+00:00 desk kernel: ",
        ):
            found = read("".join(front + line + "\n" for line in OOPS.splitlines()))
            self.assertEqual(
                [(crash.kind, crash.symbol) for crash in found], [("panic", "till_read")], front
            )

    def test_other_kinds(self):
        rows = (
            ("[1.0] watchdog: BUG: soft lockup - CPU#1 stuck for 22s! [till:81]", "lockup"),
            (
                "[1.0] mce: [Hardware Error]: CPU 0: Machine Check: 0 Bank 4: b200000000070f0f",
                "machine-check",
            ),
            ("[1.0] Out of memory: Killed process 812 (till) total-vm:1kB", "out-of-memory"),
            ("[1.0] INFO: task till:81 blocked for more than 120 seconds.", "hung-task"),
            ("[1.0] kernel BUG at fs/ext4/inode.c:100!", "oops"),
            (
                "[1.0] general protection fault, probably for address 0x1: 0000 [#1] PREEMPT SMP",
                "oops",
            ),
        )
        for text, kind in rows:
            self.assertEqual([crash.kind for crash in read(text + "\n")], [kind], text)
        self.assertEqual(
            read("[1.0] traps: till[81] general protection fault ip:1 sp:2 error:0\n"), []
        )
        two = (
            "[1.0] mce: [Hardware Error]: CPU 0: Machine Check: 0\n[1.1] mce: [Hardware Error]:"
            " TSC 0\n"
        )
        self.assertEqual(len(read(two)), 1)

    def test_a_sound_log_gives_none(self):
        self.assertEqual(read(SOUND), [])

    def test_hostile_logs_cost_neither_memory_nor_the_screen(self):
        long = (
            b"Kernel panic - not syncing: \x1b]0;boo\x07\x1b[2J" + b"A" * 10_000_000 + b"\0\xff\n"
        )
        found = read(long + OOPS.encode())
        self.assertEqual((len(found), len(found[0].headline) <= 240), (2, True))
        log = self.folder / "log"
        log.write_bytes(long)
        self.assertNotIn("\x1b", self.run_here("crashes", log))
        self.assertEqual(len(read(b"Kernel panic - not syncing: x\n" * 5000)), 1000)

    @given(st.binary(max_size=400))
    @settings(max_examples=150, deadline=None)
    def test_any_bytes_are_read(self, data):
        for front in (
            b"",
            DARWIN.encode()[:200],
            b"Kernel panic - not syncing: ",
            OOPS.encode()[:300],
        ):
            read(front + data)

    def test_targets(self):
        records, tree, case = self.folder / "records", self.folder / "tree", self.folder / "case"
        records.mkdir()
        (tree / "var/log").mkdir(parents=True)
        (tree / "etc").mkdir()
        (records / "dmesg-efi-1").write_text(OOPS)
        (tree / "var/log/kern.log").write_text(SOUND + OOPS)
        (tree / "var/log/auth.log").write_text(OOPS)
        (tree / "var/log/syslog").symlink_to(records / "dmesg-efi-1")
        self.run_here("open", case, "--quiet")
        self.run_here("add", case, records / "dmesg-efi-1")
        for target, files in ((records, 1), (tree, 1), (case, 1), (records / "dmesg-efi-1", 1)):
            found = self.json_here("crashes", target)
            self.assertEqual((len(found["files"]), len(found["crashes"])), (files, 1), target)
        self.assertEqual(self.json_here("crashes", tree)["crashes"][0]["line"], 202)
        self.run_here("crashes", records, "--check", expect=1)
        self.run_here("crashes", self.folder / "nowhere", expect=3)

    def test_a_darwin_panic_names_the_extension_that_is_not_the_systems_own(self):
        wrapped = (
            json.dumps({"kind": "panic"})
            + "\n"
            + json.dumps({"panicString": DARWIN, "product": "desk"})
        )
        for text in (DARWIN, wrapped):
            (crash,) = read(text)
            self.assertEqual(
                (crash.kind, crash.module, crash.program),
                ("panic", "org.skerrivane.driver.Till", "kernel_task"),
            )
            self.assertEqual(
                crash.trace, ("org.skerrivane.driver.Till", "com.maker.iokit.IOUSBHostFamily")
            )
            self.assertEqual((crash.suspects[0], crash.version), ("driver", "19.6.0"))
            self.assertIn("last loaded: org.skerrivane.driver.Till 1.4.2", crash.marks)
        own = read(DARWIN.replace("org.skerrivane.driver.Till", "com.maker.driver.Till"))
        self.assertNotIn("not the system's own", " ".join(own[0].marks))
        self.assertEqual(read("[" * 100_000 + "{" * 50_000 + "panic(cpu 1"), [])

    def test_letters_of_the_kernels_state(self):
        self.assertEqual(len(kernel_text.taint_says("POEX?")), 4)


class Memory(InFolder):
    def test_the_memory_of_a_kernel_is_no_log(self):
        elf = b"\x7fELF\x02\x01\x01".ljust(16, b"\0") + b"\x04\0\x3e\0"
        for head in (b"KDUMP   ", b"makedumpfile\0", elf):
            core = self.folder / "vmcore"
            core.write_bytes(head.ljust(4096, b"\0") + OOPS.encode())
            found = self.json_here("crashes", core)
            self.assertEqual(found["crashes"], [])
            self.assertIn("not searched", found["notes"][0])


class OnDisks(InFolder):
    @needs("mke2fs")
    def test_the_end_of_a_log_that_is_longer_than_what_is_held(self):
        log = self.folder / "tree/var/log/kern.log"
        log.parent.mkdir(parents=True)
        with log.open("w") as file:
            file.write("Nov  3 08:00:00 desk kernel: [    0.000000] Linux version 6.1.0-ferry\n")
            line = f"Nov  3 08:00:01 desk till[4]: {'calm sea ' * 100}\n"
            for _ in range(75 << 10):
                file.write(line)
            file.write(
                "Nov  3 09:00:00 desk kernel: [ 3600.000000] Kernel panic - not syncing: x\n"
            )
        self.assertGreater(log.stat().st_size, 64 << 20)
        disk = self.folder / "pc.img"
        tool("mke2fs", "-q", "-t", "ext4", "-d", self.folder / "tree", disk, "120M")
        found = self.json_here("crashes", disk)
        self.assertEqual((len(found["crashes"]), found["crashes"][0]["line"]), (1, (75 << 10) + 2))


class RealKernels(InFolder):
    def log(self, script=None, words="", seconds=90):
        """What a kernel prints until it stops. Args: script: its init; None for no initramfs."""
        command = [
            QEMU,
            "-machine",
            "q35,accel=tcg",
            "-m",
            "256",
            "-nographic",
            "-net",
            "none",
            "-no-reboot",
        ]
        command += ["-kernel", KERNEL, "-append", f"console=ttyS0 panic=-1 {words}"]
        if script is not None:
            tree, archive = self.folder / "init", self.folder / "archive"
            for folder in ("bin", "proc", "dev"):
                (tree / folder).mkdir(parents=True, exist_ok=True)
            (tree / "bin/busybox").write_bytes(BUSYBOX.read_bytes())
            (tree / "init").write_text(
                f"#!/bin/busybox sh\n/bin/busybox mount -t proc proc /proc\n{script}\n"
            )
            for path in (tree / "bin/busybox", tree / "init"):
                path.chmod(0o755)
            tool("sh", "-c", f"cd {tree} && find . | cpio -o -H newc --quiet > {archive}")
            command += ["-initrd", archive]
        done = subprocess.run(
            list(map(str, command)),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=seconds,
            check=False,
        )
        path = self.folder / "serial.log"
        path.write_bytes(done.stdout)
        return self.json_here("crashes", path)["crashes"]

    @needs(QEMU, KERNEL, BUSYBOX, "cpio")
    def test_four_ways_to_stop_and_a_sound_start(self):
        memory = (
            "/bin/busybox mount -t devtmpfs dev /dev\n/bin/busybox echo 2 >"
            " /proc/sys/vm/panic_on_oom\n"
        )
        rows = (
            ("exit 3", "", "Attempted to kill init! exitcode=0x00000300", "kernel", "panic"),
            (
                "/bin/busybox echo c > /proc/sysrq-trigger",
                "",
                "sysrq triggered crash",
                "session",
                "panic",
            ),
            (
                memory + "/bin/busybox tail /dev/zero",
                "",
                "Out of memory: compulsory panic_on_oom is enabled",
                "session",
                "panic",
            ),
            (
                None,
                "root=/dev/sda1",
                "VFS: Unable to mount root fs on unknown-block(0,0)",
                "loader",
                "root-missing",
            ),
        )
        for script, words, headline, phase, kind in rows:
            with self.subTest(headline):
                found = self.log(script, words)
                self.assertEqual(
                    [(crash["kind"], crash["headline"], crash["phase"]) for crash in found],
                    [(kind, headline, phase)],
                )
                self.assertGreater(len(found[0]["trace"]), 2)
        sound = self.log(
            '/bin/busybox echo "no error, nothing failed, no panic"\n/bin/busybox poweroff -f'
        )
        self.assertEqual(sound, [])


if __name__ == "__main__":
    unittest.main()
