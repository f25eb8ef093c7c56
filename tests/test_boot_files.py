"""Files put on FAT volumes: what other programs say of them; and the fallback loader copied
afresh.
"""

import random
import shutil
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.disk.fat import FatWriter
from mending.model import RefusedError
from mending.source import MemorySource, open_source
from tests.machine import OVMF, QEMU, starts
from tests.support import (
    SECTOR,
    START,
    InFolder,
    ids,
    made_kernel,
    needs,
    patch,
    run,
    sha,
    tool,
    trace_file,
)
from tests.volumes import make_volume

SYSTEMD_BOOT = Path("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
NAMES = st.text("abcXYZ019 .-_äβ", min_size=1, max_size=40).map(
    lambda text: f"n{text.strip(' .')}x"
)


class Writer(InFolder):
    def written(self, volume, files):
        with open_source(str(volume)) as source:
            writer = FatWriter(source, 0)
            for path, data in files.items():
                writer.put(path, data)
            ranges = writer.ranges()
        for offset, before, after in ranges:
            self.assertEqual(volume.read_bytes()[offset : offset + len(before)], before)
            patch(volume, offset, after)

    @needs("mkfs.fat", "fsck.fat", "mtype", "mmd", "mcopy")
    def test_the_systems_checker_and_other_readers_agree(self):
        draw = random.Random(7)
        for kind in ("fat12", "fat16", "fat32"):
            volume = make_volume(self.folder, kind)
            old = self.folder / "old"
            old.write_bytes(b"old" * 3000)
            tool("mmd", "-i", volume, "::EFI", "::EFI/BOOT")
            tool("mcopy", "-i", volume, old, "::EFI/BOOT/BOOTX64.EFI")
            files = {
                "EFI/BOOT/BOOTX64.EFI": draw.randbytes(30_000),
                "loader/loader.conf": b"timeout 3\n",
                "EMPTY.TXT": b"",
                "EFI/Linux/a long name of a kernel 6.1.efi": draw.randbytes(70_001),
            }
            files |= {
                f"loader/entries/entry number {number}.conf": b"x%d" % number
                for number in range(40)
            }
            self.written(volume, files)
            self.written(volume, {"EFI/BOOT/BOOTX64.EFI": b"short"})
            files["EFI/BOOT/BOOTX64.EFI"] = b"short"
            self.assertNotIn("Fixing", tool("fsck.fat", "-n", volume))
            for path, data in files.items():
                shown = self.folder / "shown"
                shown.unlink(missing_ok=True)
                tool("mcopy", "-i", volume, f"::{path}", shown)
                self.assertTrue(shown.read_bytes() == data, path)

    @given(st.dictionaries(NAMES, st.binary(max_size=3000), min_size=1, max_size=6))
    @settings(max_examples=25, deadline=None)
    def test_any_names_are_read_back_by_our_own_reader(self, files):
        folded = {name.casefold(): name for name in files}
        wanted = {name: files[name] for name in folded.values()}
        source = MemorySource(_blank_fat())
        writer = FatWriter(source, 0)
        for name, data in wanted.items():
            writer.put(f"sub/{name}", data)
        for offset, _, after in writer.ranges():
            source.write(offset, after)
        again = FatWriter(source, 0)._reader
        self.assertEqual({name: again.read(f"sub/{name}", 9999) for name in wanted}, wanted)

    def test_a_full_volume_is_refused(self):
        with self.assertRaises(RefusedError):
            FatWriter(MemorySource(_blank_fat()), 0).put("LARGE.BIN", bytes(600_000))


def _blank_fat():
    """A FAT12 volume of 512 KiB by the published layout: 1 reserved sector, two FATs of 3, 64 rows
    in the root.
    """
    data = bytearray(1024 * SECTOR)
    head = (
        b"\xeb\x3c\x90FERRIES "
        + (512).to_bytes(2, "little")
        + b"\1"
        + (1).to_bytes(2, "little")
        + b"\2"
    )
    head += (
        (64).to_bytes(2, "little")
        + (1024).to_bytes(2, "little")
        + b"\xf8"
        + (3).to_bytes(2, "little")
    )
    data[: len(head)], data[510:512] = head, b"\x55\xaa"
    for start in (512, 4 * 512):
        data[start : start + 3] = b"\xf8\xff\xff"
    return bytes(data)


class Fallback(InFolder):
    def disk(self, loader, name, *more):
        """An ESP with a loader that only a boot entry would start, and what it needs."""
        path = self.folder / "efi.img"
        path.write_bytes(bytes(64 << 20))
        tool("sfdisk", "-q", path, stdin=f"label: gpt\nstart={START},size=120000,type=uefi\n")
        tool("mkfs.fat", "-F", "32", "-s", "1", "--offset", START, "-h", START, path, 60_000)
        inside = f"{path}@@{START * SECTOR}"
        for folder in ("EFI", "EFI/desk", "loader", "loader/entries"):
            tool("mmd", "-i", inside, f"::{folder}")
        for source, target in ((loader, name), *more):
            tool("mcopy", "-i", inside, source, f"::{target}")
        return path

    def check(self, path, loader):
        trace = trace_file(path)
        self.assertIn("efi-entry-needed", ids(trace))
        broken = sha(path)
        done = self.json_here("mend", path, "boot-files", "--yes")
        self.assertEqual((done["after"], done["failing_after"]), ("unsure", None))
        part = self.folder / "part"
        part.write_bytes(path.read_bytes()[START * SECTOR : (START + 120_000) * SECTOR])
        self.assertNotIn("Fixing", tool("fsck.fat", "-n", part))
        shown = self.folder / "shown"
        tool("mcopy", "-o", "-i", part, "::EFI/BOOT/BOOTX64.EFI", shown)
        self.assertTrue(shown.read_bytes() == Path(loader).read_bytes())
        mended = path.read_bytes()
        self.run_here("undo", path)
        self.assertEqual(sha(path), broken)
        return mended

    @needs("sfdisk", "mkfs.fat", "mcopy", "mmd", "fsck.fat", SYSTEMD_BOOT)
    def test_a_manager_that_only_an_entry_would_start_is_copied(self):
        entry, kernel = self.folder / "ferry.conf", self.folder / "kernel"
        entry.write_text("title Ferry\nlinux /kernel\noptions quiet\n")
        kernel.write_bytes(made_kernel())
        more = ((entry, "loader/entries/ferry.conf"), (kernel, "kernel"))
        path = self.disk(SYSTEMD_BOOT, "EFI/desk/systemd-bootx64.efi", *more)
        self.check(path, SYSTEMD_BOOT)
        tool("mmd", "-i", f"{path}@@{START * SECTOR}", "::EFI/BOOT")
        half = self.folder / "half"
        half.write_bytes(SYSTEMD_BOOT.read_bytes()[:40_000])
        tool("mcopy", "-i", f"{path}@@{START * SECTOR}", half, "::EFI/BOOT/BOOTX64.EFI")
        self.check(path, SYSTEMD_BOOT)

    @needs("sfdisk", "mkfs.fat", "mcopy", "mmd", "fsck.fat", "grub-mkimage", QEMU, OVMF)
    def test_grub_starts_from_the_fallback_place(self):
        loader, menu = self.folder / "grub.efi", self.folder / "grub.cfg"
        menu.write_text(
            "serial\nterminal_output serial\nmenuentry Ferry {\n  linux /kernel\n}\necho Ferry menu"
            " reached\nhalt\n"
        )
        kernel = self.folder / "kernel"
        kernel.write_bytes(made_kernel())
        modules = ["part_gpt", "fat", "normal", "linux", "serial", "terminal", "echo", "halt"]
        tool("grub-mkimage", "-O", "x86_64-efi", "-o", loader, "-p", "/EFI/desk", *modules)
        path = self.disk(
            loader, "EFI/desk/grubx64.efi", (menu, "EFI/desk/grub.cfg"), (kernel, "kernel")
        )
        self.assertFalse(starts(path, "uefi", "Ferry menu reached"))
        path.write_bytes(self.check(path, loader))
        self.assertTrue(starts(path, "uefi", "Ferry menu reached"))

    @needs("sfdisk", "mkfs.fat", "mcopy", "mmd")
    def test_it_is_refused_with_a_reason(self):
        other = self.folder / "other.efi"
        shutil.copy(Path(__file__), other)
        path = self.disk(other, "EFI/desk/other.efi")
        self.assertIn(
            "none to copy", run("mend", path, "boot-files", "--yes", expect=4, env=self.env)
        )


if __name__ == "__main__":
    unittest.main()
