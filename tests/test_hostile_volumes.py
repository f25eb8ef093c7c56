"""Small disks of real programs, mutated as a whole: every one gives a trace; what cannot be read is
never called missing.
"""

import random
import unittest

from mending.boot.trace import trace_target
from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import survey
from mending.model import InputError
from mending.source import MemorySource, open_source
from mending.workshop.disks import code
from tests.support import SECTOR, InFolder, needs, tool

START = 64


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
