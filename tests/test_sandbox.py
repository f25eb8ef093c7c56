"""Damaged volumes: what goes round in circles or crashes does so apart from us; whole images are
mutated.
"""

import os
import random
import resource
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from mending.boot.trace import trace_target
from mending.disk.files import (
    FilesUnavailableError,
    SandboxedProcess,
    SandboxEndedError,
    open_files,
)
from mending.disk.layout import survey
from mending.model import InputError
from mending.source import MemorySource, open_source
from mending.workshop.disks import code
from tests.support import SECTOR, InFolder, needs, tool

START = 64


PARENT = """
import os, time
from mending.disk.files import SandboxedProcess
class Worker:
    def pid(self): return os.getpid()
apart = SandboxedProcess(Worker)
print(apart.call("pid"), flush=True)
time.sleep(60)
"""


class Worker:
    """What a library does on a bad day."""

    def add(self, one, other):
        return one + other

    def circle(self):
        while True:
            pass

    def crash(self):
        os.abort()

    def refuse(self, how):
        raise (
            OSError("bad folder")
            if how == "library"
            else InputError("The disk went away.", "Plug it in.")
        )


class Bounded(unittest.TestCase):
    def test_answers_and_errors_come_back(self):
        apart = SandboxedProcess(Worker)
        self.assertEqual((apart.call("add", 1, 2), apart.call("add", "a", "b")), (3, "ab"))
        with self.assertRaisesRegex(OSError, "bad folder"):
            apart.call("refuse", "library")
        with self.assertRaises(InputError) as caught:
            apart.call("refuse", "source")
        self.assertEqual(
            (caught.exception.says, caught.exception.hint), ("The disk went away.", "Plug it in.")
        )
        self.assertEqual(apart.call("add", 2, 2), 4)

    def test_a_circle_and_a_crash_end_the_other_process_only(self):
        for method in ("circle", "crash"):
            apart = SandboxedProcess(Worker)
            with self.assertRaises(SandboxEndedError):
                apart.call(method)
            with self.assertRaises(SandboxEndedError):
                apart.call("add", 1, 1)

    def test_it_can_only_read_what_it_was_born_with_and_its_memory_is_bounded(self):
        class Curious:
            def write(self, handle):
                os.write(handle, b"x")

            def grow(self):
                return len(bytearray(3 << 30))

            def pipes(self):
                places = [p for p in Path("/proc/self/fd").iterdir() if int(p.name) > 2]
                return sum(place.is_fifo() for place in places)

        reading, writing = os.pipe()
        self.addCleanup(os.close, reading)
        self.addCleanup(os.close, writing)
        with tempfile.TemporaryFile() as file:
            apart = SandboxedProcess(Curious)
            with self.assertRaises(OSError):
                apart.call("write", file.fileno())
            with self.assertRaisesRegex(OSError, "memory"):
                apart.call("grow")
            self.assertEqual(apart.call("pipes"), 0)
            self.assertEqual(file.tell(), 0)

    def test_it_ends_when_its_parent_is_killed(self):
        with subprocess.Popen(
            [sys.executable, "-c", PARENT], stdout=subprocess.PIPE, text=True
        ) as parent:
            child = int(parent.stdout.readline())
            parent.kill()
        for _ in range(100):
            if not Path(f"/proc/{child}").exists():
                return
            if " Z " in Path(f"/proc/{child}/stat").read_text():
                return
            time.sleep(0.05)
        self.fail("it is still there")

    def test_all_volumes_of_a_target_share_a_bound(self):
        target, ended = Worker(), 0
        began = time.process_time()
        for _ in range(60):
            apart = SandboxedProcess(Worker, 0.05, target)
            with self.assertRaises(SandboxEndedError):
                apart.call("circle")
            ended += 1
        used = resource.getrusage(resource.RUSAGE_CHILDREN)
        self.assertEqual(ended, 60)
        self.assertLess(used.ru_utime - self.before.ru_utime, 60 * 0.05)
        self.assertLess(time.process_time() - began, 60)

    def setUp(self):
        self.before = resource.getrusage(resource.RUSAGE_CHILDREN)

    def test_waiting_costs_nothing(self):
        class Slow:
            def wait(self):
                time.sleep(1.5)
                return "there"

        self.assertEqual(SandboxedProcess(Slow).call("wait"), "there")


class WholeImages(InFolder):
    """Mutations of small disks made by real programs."""

    def images(self):
        made = []
        for label, kind in (("dos", "1,bootable"), ("gpt", "uefi")):
            path = self.folder / f"{label}.img"
            path.write_bytes(bytes(2 << 20))
            tool(
                "sfdisk", "-q", path, stdin=f"label: {label}\nstart={START},size=3900,type={kind}\n"
            )
            tool("mkfs.fat", "--offset", START, "-h", START, path, 1900)
            loader, inside = self.folder / "loader.efi", f"{path}@@{START * SECTOR}"
            loader.write_bytes(code("desk-loader-efi"))
            tool("mmd", "-i", inside, "::EFI", "::EFI/BOOT")
            tool("mcopy", "-i", inside, loader, "::EFI/BOOT/BOOTX64.EFI")
            made.append(path.read_bytes())
        path = self.folder / "ext.img"
        path.write_bytes(bytes(2 << 20))
        tool("sfdisk", "-q", path, stdin=f"label: dos\nstart={START},size=3900,type=83,bootable\n")
        tool("mke2fs", "-q", "-t", "ext4", "-E", f"offset={START * SECTOR}", path, "1900k")
        return [*made, path.read_bytes()]

    @needs("sfdisk", "mkfs.fat", "mcopy", "mke2fs")
    def test_every_mutation_gives_a_trace(self):
        draw = random.Random(20260302)
        images = self.images()
        for _ in range(600):
            disk = bytearray(draw.choice(images))
            for _ in range(draw.choice((1, 3, 12, 60))):
                near = draw.choice(
                    (0, 512, 1024, START * SECTOR, START * SECTOR + 1024)
                ) + draw.randrange(1500)
                disk[near] = draw.choice(
                    (0, 255, draw.randrange(256), disk[near] ^ 1 << draw.randrange(8))
                )
            try:
                trace = trace_target(MemorySource(bytes(disk)))
            except InputError as error:
                self.assertIn("is no disk", error.says)
                continue
            self.assertEqual(len(trace.phases), 8)

    @needs("sfdisk", "mke2fs", "mkfs.fat", "mcopy")
    def test_a_damaged_root_folder_is_unavailable_and_never_a_missing_file(self):
        disk = bytearray(self.images()[2])
        table = START * SECTOR + 4096
        disk[table : table + 200_000] = bytes(200_000)
        source = MemorySource(bytes(disk))
        with self.assertRaises(FilesUnavailableError):
            open_files(source, survey(source).volumes[0])
        self.assertGreater(source.bytes_read, 0)


class LargeFiles(InFolder):
    @needs("mke2fs")
    def test_a_large_file_is_read_to_its_end(self):
        tree = self.folder / "tree"
        tree.mkdir()
        data = bytes(range(256)) * (1 << 19)
        (tree / "large").write_bytes(data)
        path = self.folder / "volume"
        tool("mke2fs", "-q", "-t", "ext4", "-d", tree, path, "160M")
        with open_source(str(path)) as source:
            files = open_files(source, survey(source).volumes[0])
            found = files.find("large")
            self.assertTrue(files.read(found, found.bytes) == data)
            self.assertEqual(files.read(found, 5), data[:5])


if __name__ == "__main__":
    unittest.main()
