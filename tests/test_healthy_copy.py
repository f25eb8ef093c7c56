"""The healthy copy: kept of a PC that starts, compared later, and a source of sound parts."""

import json
import shutil
import unittest
import zipfile
from random import Random

from tests.nt_faults import turned
from tests.nt_pc import BASE, NtPc
from tests.nt_pc import PROGRAMS as NT_MAKERS
from tests.real import (
    ROOT,
    START,
    bios_disk,
    grub_loader,
    menu,
    needs_real,
    uefi_disk,
    version,
)
from tests.support import (
    EVERY,
    SECTOR,
    InFolder,
    ids,
    needs,
    needs_mounts,
    part_of,
    patch,
    refused,
    sha,
    tool,
    trace_file,
)
from tests.test_real_systems import FALLBACK, TOOLS, Real

ROOT_OF = {"bios": START, "uefi": START + 204_800}


class Kept(Real):
    """A real system, its copy, and ways to break it."""

    def made(self, firmware):
        path = self.path = self.folder / "pc.img"
        if firmware == "bios":
            bios_disk(path)
        else:
            loader = grub_loader(self.folder / "grub.efi")
            uefi_disk(path, {FALLBACK: loader, "EFI/ferry/grub.cfg": menu().encode()})
        self.copy, self.sound = self.folder / "pc.zip", self.folder / "sound.img"
        self.copy.unlink(missing_ok=True)
        tool("cp", "--sparse=always", path, self.sound)
        self.json_here("keep", path, "-o", self.copy)
        self.volume = f"{path}?offset={ROOT_OF[firmware] * SECTOR}"
        self.esp = f"{path}@@{START * SECTOR}"
        return path

    def again(self, path):
        tool("cp", "--sparse=always", self.sound, path)
        shutil.rmtree(self.folder / "data", ignore_errors=True)

    def lose(self, *names):
        for name in names:
            tool("debugfs", "-w", "-R", f"unlink {name}", self.volume)

    def write(self, place, data):
        held = self.folder / "held"
        held.write_bytes(data)
        self.lose(place)
        tool("debugfs", "-w", "-R", f"write {held} {place}", self.volume)

    def mend(self, path, expect="no-fault-found"):
        words = ("mend", path, "--all", "--yes", "--mount", "--from", self.copy)
        done = self.json_here(*words)
        self.assertEqual(done["after"], expect, refused(done))
        self.assertEqual({step["repair"] for step in done["steps"]}, {"healthy-parts"})


def blank(pc, offset, length):
    patch(pc.path, offset, bytes(length))


OTHER = b"UUID=5ea00000-0000-4000-8000-0000000000ff "
BIOS_FAULTS = {
    "boot code": lambda pc: blank(pc, 0, 440),
    "the first 1000 sectors": lambda pc: blank(pc, 0, 1000 * SECTOR),
    "core": lambda pc: blank(pc, SECTOR, 100 * SECTOR),
    "table": lambda pc: blank(pc, 446, 66),
    "menu": lambda pc: pc.lose("/boot/grub/grub.cfg"),
    "a module of the manager": lambda pc: pc.lose("/boot/grub/i386-pc/normal.mod"),
    "kernel empty": lambda pc: pc.write(f"/boot/vmlinuz-{version()}", b""),
    "kernel gone": lambda pc: pc.lose(f"/boot/vmlinuz-{version()}"),
    "initramfs cut": lambda pc: pc.write(
        f"/boot/initrd.img-{version()}",
        (ROOT / f"boot/initrd.img-{version()}").read_bytes()[:100_000],
    ),
    "init gone": lambda pc: pc.lose("/usr/sbin/init"),
    "init overwritten": lambda pc: pc.write("/usr/lib/systemd/systemd", b"x" * 5000),
    "the loader of programs gone": lambda pc: pc.lose(
        "/usr/lib/x86_64-linux-gnu/ld-linux-x86-64.so.2"
    ),
    "fstab of another PC": lambda pc: pc.write(
        "/etc/fstab", OTHER + b"/ ext4 ro 0 1\n" + OTHER + b"/x ext4 defaults 0 1\n"
    ),
    "default target": lambda pc: pc.lose("/usr/lib/systemd/system/default.target"),
}
UEFI_FAULTS = {
    "both tables": lambda pc: (
        blank(pc, SECTOR, 33 * SECTOR),
        blank(pc, pc.path.stat().st_size - 33 * SECTOR, 33 * SECTOR),
    ),
    "record and first table": lambda pc: blank(pc, 0, 34 * SECTOR),
    "boot sector of the ESP": lambda pc: blank(pc, START * SECTOR, SECTOR),
    "loader gone": lambda pc: tool("mdel", "-i", pc.esp, f"::{FALLBACK}"),
    "loader cut": lambda pc: pc.cut_loader(),
    "menu on the ESP": lambda pc: tool("mdel", "-i", pc.esp, "::EFI/ferry/grub.cfg"),
}


@needs(*TOOLS, "mdel")
@needs_real
@needs_mounts
class Faults(Kept):
    def cut_loader(self):
        held = self.folder / "held"
        held.write_bytes(b"MZ" + bytes(500))
        tool("mcopy", "-o", "-i", self.esp, held, f"::{FALLBACK}")

    def check(self, firmware, faults):
        path = self.made(firmware)
        for what, break_it in part_of(faults.items(), 4):
            with self.subTest(what):
                self.again(path)
                break_it(self)
                self.assertEqual(trace_file(path).verdict, "fails")
                self.mend(path)

    def test_twenty_faults_are_mended_from_the_copy_alone(self):
        self.assertEqual(len(BIOS_FAULTS) + len(UEFI_FAULTS), 20)
        self.check("bios", BIOS_FAULTS)
        self.check("uefi", UEFI_FAULTS)

    def test_several_at_once_start_again(self):
        path = self.made("bios")
        for what in (
            "kernel gone",
            "init overwritten",
            "fstab of another PC",
            "menu",
            "the first 1000 sectors",
        ):
            BIOS_FAULTS[what](self)
        self.mend(path)
        self.assertEqual(trace_file(path).verdict, "no-fault-found")
        if EVERY:
            self.starts(path)


@needs(*NT_MAKERS)
class OfNt(InFolder):
    def test_a_system_of_the_family(self):
        pc, copy = NtPc(self.folder, "uefi"), self.folder / "c.zip"
        kept = self.json_here("keep", pc.path, "-o", copy)
        self.assertEqual(kept["left_out"], [])
        sound = sha(pc.path)
        pc.write(turned(f"{BASE}/drivers/quaydisk.sys"))
        pc.write({f"{BASE}/config/SYSTEM": bytes(131_072)})
        self.assertEqual(trace_file(pc.path).failing_phase, "loader")
        done = self.json_here("mend", pc.path, "--all", "--yes", "--from", copy)
        self.assertEqual(done["after"], "no-fault-found", refused(done))
        self.assertEqual(ids(trace_file(pc.path)), [])
        self.assertNotEqual(sound, "")

    def test_what_a_copy_is_refused_for(self):
        pc, copy = NtPc(self.folder, "bios"), self.folder / "c.zip"
        self.json_here("keep", pc.path, "-o", copy)
        self.assertEqual(copy.stat().st_mode & 0o777, 0o600)
        said = self.json_here("keep", pc.path, "-o", copy, expect=4)
        self.assertIn("there already", said["says"])
        pc.desk("BOOTMGR", None)
        self.assertIn(
            "not healthy",
            self.json_here("keep", pc.path, "-o", self.folder / "d.zip", expect=4)["says"],
        )
        self.assertFalse((self.folder / "d.zip").exists())
        words = ("mend", self.other_pc(), "healthy-parts", "--yes", "--from", copy)
        self.assertIn("another PC", self.json_here(*words, expect=4)["says"])
        every = ("mend", words[1], "--all", "--dry-run", "--from", copy)
        self.assertIn("another PC", refused(self.json_here(*every)))
        self.json_here("mend", pc.path, "healthy-parts", "--yes", "--from", copy)
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")

    def other_pc(self):
        folder = self.folder / "other"
        folder.mkdir()
        pc = NtPc(folder, "bios")
        pc.put(440, b"\x01\x02\x03\x04")
        pc.desk("BOOTMGR", None)
        return pc.path

    def test_damaged_and_hostile_copies_end_in_one_sentence(self):
        pc, copy = NtPc(self.folder, "bios"), self.folder / "c.zip"
        self.json_here("keep", pc.path, "-o", copy)
        pc.desk("BOOTMGR", None)
        before, whole, random = sha(pc.path), copy.read_bytes(), Random(8)
        for number in range(12):
            data = bytearray(whole)
            for _ in range(8):
                data[random.randrange(len(data))] ^= 1 << random.randrange(8)
            copy.write_bytes(data if number % 3 else whole[: random.randrange(len(whole))])
            shown = self.run_here(
                "mend", pc.path, "healthy-parts", "--dry-run", "--from", copy, expect=None
            )
            self.assertNotIn("Traceback", shown)
        self.assertEqual(sha(pc.path), before)
        copy.write_bytes(whole)
        self.rewrite(copy, "BOOTMGR", "/../../BOOTMGR")
        said = self.run_here("mend", pc.path, "healthy-parts", "--yes", "--from", copy, expect=None)
        self.assertNotIn("Traceback", said)
        self.assertEqual(sha(pc.path), before)

    def rewrite(self, copy, old, new):
        """The same copy, in whose index a path is another one."""
        with zipfile.ZipFile(copy) as archive:
            members = {name: archive.read(name) for name in archive.namelist()}
        index = json.loads(members["copy.json"])
        for file in index["files"]:
            file["path"] = file["path"].replace(f"/{old}", new).replace(f"/{old.lower()}", new)
        members["copy.json"] = json.dumps(index).encode()
        with zipfile.ZipFile(copy, "w") as archive:
            for name, data in members.items():
                archive.writestr(name, data)

    def test_what_changed_since(self):
        pc, copy = NtPc(self.folder, "uefi"), self.folder / "c.zip"
        self.json_here("keep", pc.path, "-o", copy)
        self.assertEqual(self.json_here("trace", pc.path, "--against", copy)["against"], [])
        pc.put(100, b"here")
        pc.write(turned(f"{BASE}/winlogon.exe"))
        told = self.json_here("trace", pc.path, "--against", copy)["against"]
        rows = [(row["phase"], row["state"], row["path"] or row["what"]) for row in told]
        self.assertEqual(
            rows,
            [
                ("boot-record", "differs", "boot code"),
                ("session", "differs", "/ferry/system32/winlogon.exe"),
            ],
        )
        self.assertIn("since the healthy copy", self.run_here("trace", pc.path, "--against", copy))


if __name__ == "__main__":
    unittest.main()
