"""A power cut behind every write, flush and rename of every repair: afterwards the target is as
before, or an undo point is there that takes it back.
"""

import hashlib
import io
import json
import os
import random
import shutil
import subprocess
import time
import unittest
from contextlib import redirect_stdout
from pathlib import Path
from unittest import mock

from mending.cli import program
from mending.repair.boot import own_code
from mending.repair.journal import Allowed, Journal
from mending.source import FolderSource, MemorySource, mounted, open_source
from mending.workshop import (
    BIOS_FAULTS,
    LINUX_FAULTS,
    UEFI_FAULTS,
    bios_disk,
    linux_disk,
    uefi_disk,
)
from mending.workshop.nt import NT_FAULTS, STORE_FILE, nt_bios_disk
from tests.power_cuts import Recorder, content, parts, states, tree_of
from tests.support import EVERY, PROGRAM, InFolder, made_kernel, needs, needs_mounts
from tests.systems import EFI_MAKERS, INIT, MAKERS, MENU, ROOT, EfiSystems, Trees
from tests.test_folders import state_of

SYSTEMD_BOOT = Path("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
AT = "2026-03-02T09:00:00+00:00"
AS_DRAWN = {"none": lambda _draft: None}


def blank_head(tree):
    """The first block of the system hive is blank."""
    path = "ferry/system32/config/SYSTEM"
    tree[path] = bytes(4096) + tree[path][4096:]


DISKS = (
    ("boot-code", lambda: bios_disk(own_code()), BIOS_FAULTS, "blank-boot-code"),
    ("active-flag", lambda: bios_disk(own_code()), BIOS_FAULTS, "no-active-entry"),
    ("boot-sector", lambda: bios_disk(own_code()), BIOS_FAULTS, "blank-boot-sector"),
    ("fat-mirror", lambda: bios_disk(own_code()), BIOS_FAULTS, "blank-second-fat"),
    ("partition-table", lambda: bios_disk(own_code()), BIOS_FAULTS, "no-table"),
    ("gpt-copy", uefi_disk, UEFI_FAULTS, "blank-primary-header"),
    ("superblock", linux_disk, LINUX_FAULTS, "blank-root-superblock"),
    *(
        (repair, lambda fault=fault: nt_bios_disk(own_code(), fault), AS_DRAWN, "none")
        for repair, fault in (
            ("store-device", NT_FAULTS["other-disk"]),
            ("sign-in-program", NT_FAULTS["other-program-at-sign-in"]),
            ("file-restore", NT_FAULTS["damaged-driver"]),
            ("hive-header", blank_head),
            ("boot-entries", lambda tree: tree.pop(STORE_FILE)),
        )
    ),
)


class Cuts(Trees):
    """Args of each check: how the target is read back from a state, and put into a state."""

    def mend(self, target, *words):
        """Run the program in this process, every call that changes a medium noted."""
        data = self.folder / "data"
        before = tree_of(data, target if target.is_dir() else target.parent)
        typed = ["mend", str(target), *map(str, words), "--yes", "--json"]
        with (
            mock.patch.dict(os.environ, self.env),
            redirect_stdout(io.TextIOWrapper(io.BytesIO())) as shown,
            Recorder(data, target) as recorder,
        ):
            program.main(typed, standalone_mode=False)
        self.announced = json.loads(shown.buffer.getvalue())["writes"]
        return recorder.calls, before

    def journal_of(self, state, name):
        """The data folder of a state, put on this machine."""
        place = self.folder / "found" / name
        shutil.rmtree(place, ignore_errors=True)
        top = str((self.folder / "data").resolve())
        place.mkdir(parents=True)
        for path, held in state.items():
            if not path.startswith(f"{top}/"):
                continue
            there = place / path[len(top) + 1 :]
            if held is None:
                there.mkdir(parents=True, exist_ok=True)
            else:
                there.parent.mkdir(parents=True, exist_ok=True)
                there.write_bytes(content(held))
        return Journal(place / "mending" / "undo", place / "mending" / "key")

    def check(self, calls, before, read, undone):
        """Every state; returns how many."""
        first = last = None
        every, undoings = list(states(calls, before)), 0
        first, last = read(every[0][2]), read(every[-7][2])
        self.assertNotEqual(first, last)
        for at, name, state in every:
            found = read(state)
            if found == first:
                continue
            with self.subTest(call=calls[at - 1][:2], state=name):
                journal = self.journal_of(state, "one")
                points = journal.load().points
                self.assertEqual(len(points), self.known + 1)
                self.assertEqual(undone(state, journal, points[-1]), first)
                undoings += 1
        self.assertGreater(undoings, 0)
        return len(every)


class DiskCuts(Cuts):
    def check_disk(self, path, repair, *more):
        calls, before = self.mend(path, repair, *more)
        name, base = str(path.resolve()), before[str(path.resolve())]
        ranges = [(call[2], len(call[3])) for call in calls if call[:2] == ("bytes", name)]
        self.assertTrue(ranges)
        source = MemorySource(base)
        now, kept = path.read_bytes(), bytearray(base)
        for write in self.announced:
            start, end = write["offset"], write["offset"] + write["length"]
            kept[start:end] = now[start:end]
        self.assertEqual(hashlib.sha256(kept).digest(), hashlib.sha256(now).digest())

        def read(state):
            return parts(state[name], ranges)

        def undone(state, journal, point):
            for (offset, _), data in zip(ranges, read(state), strict=True):
                source.data[offset : offset + len(data)] = data
            journal.undo(source, point, AT)
            return [bytes(source.data[offset : offset + length]) for offset, length in ranges]

        return self.check(calls, before, read, undone)


class Disks(DiskCuts):
    def test_every_repair_of_a_disk_on_a_fresh_and_on_a_used_data_folder(self):
        counted = 0
        for repair, draw, faults, fault in DISKS:
            draft = draw()
            faults[fault](draft)
            for self.known in range(1 if faults is AS_DRAWN else 2):
                path = self.folder / f"{repair}.img"
                draft.save(path)
                if not self.known:
                    shutil.rmtree(self.folder / "data", ignore_errors=True)
                with self.subTest(repair=repair, used=bool(self.known)):
                    counted += self.check_disk(path, repair)
                path.unlink()
        print(f"power cuts: {counted} states of disks")

    @needs(*MAKERS)
    def test_a_repair_inside_a_file_of_a_volume(self):
        self.known = 0
        menu = MENU.replace(f"root=UUID={ROOT}", "root=UUID=5ea00000-dead-4000-8000-000000000000")
        path = self.disk({**self.tree(), "boot/grub/grub.cfg": menu.encode()})
        counted = self.check_disk(path, "root-name")
        print(f"power cuts: {counted} states of a file in a volume")

    @needs(*MAKERS, "fuse2fs")
    @needs_mounts
    def test_a_file_that_needs_new_blocks(self):
        self.known = 0
        menu = MENU.replace(ROOT, "c0de-short")
        path = self.disk({**self.tree(), "boot/grub/grub.cfg": menu.encode()})
        worked_out = []

        def work_on(*given):
            worked_out.append(mounted.work_on(*given))
            return worked_out[-1]

        place = "mending.repair.files.placing.work_on"
        with mock.patch(place, work_on), redirect_stdout(io.StringIO()):
            words = ["mend", str(path), "root-name", "--mount", "--dry-run"]
            program.main(words, standalone_mode=False)
        # what the driver did lies outside of the disk; cut is what the journal does with it
        with mock.patch(place, lambda *_: worked_out[0]):
            counted = self.check_disk(path, "root-name", "--mount")
        print(f"power cuts: {counted} states of a volume that its driver worked out")


class SystemPartitions(DiskCuts, EfiSystems):
    @needs(*EFI_MAKERS, SYSTEMD_BOOT)
    def test_a_loader_put_on_a_system_partition(self):
        entry = b"title Ferry\nlinux /kernel\noptions quiet\n"
        path = self.efi_disk(
            {
                "EFI/desk/systemd-bootx64.efi": SYSTEMD_BOOT.read_bytes(),
                "loader/entries/ferry.conf": entry,
                "kernel": made_kernel(),
            }
        )
        counted = 0
        for self.known in range(2):
            counted += self.check_disk(path, "boot-files")
            with mock.patch.dict(os.environ, self.env), redirect_stdout(io.StringIO()):
                program.main(["undo", str(path)], standalone_mode=False)
        print(f"power cuts: {counted} states of a system partition")


class Folders(Cuts):
    def check_tree(self, tree, *words):
        self.known, was = 0, state_of(tree)
        calls, before = self.mend(tree, *words)
        allowed = {write["path"].lstrip("/") for write in self.announced}
        now = state_of(tree)
        changed = {name for name in {*was, *now} if was.get(name) != now.get(name)}
        self.assertLessEqual(changed, allowed)
        top = str(tree.resolve())

        def read(state):
            return {
                path: content(held)
                for path, held in state.items()
                if held is not None
                and path.startswith(f"{top}/")
                and not Path(path).name.startswith(".mending-")
            }

        def undone(state, journal, point):
            place = self.folder / "found" / "tree"
            shutil.rmtree(place, ignore_errors=True)
            shutil.copytree(tree, place, symlinks=True)
            for path in [path for path in place.rglob("*") if path.is_file()]:
                if not path.is_symlink():
                    path.unlink()
            for path, data in read(state).items():
                there = place / path[len(top) + 1 :]
                there.parent.mkdir(parents=True, exist_ok=True)
                there.write_bytes(data)
            source = FolderSource(str(place), writable=True)
            journal.undo(source, point, AT, Allowed(used_since=True))
            source.close()
            return {
                top + str(path)[len(str(place)) :]: path.read_bytes()
                for path in place.rglob("*")
                if path.is_file() and not path.is_symlink()
            }

        return self.check(calls, before, read, undone)

    def test_every_repair_of_a_mounted_tree(self):
        counted = self.check_tree(self.folder_of({"boot/grub/grub.cfg": b""}), "boot-entries")
        shutil.rmtree(self.folder / "data")
        files = self.with_packages()
        tree = self.folder_of({**files, INIT: b"bad", "usr/bin/sh": b"bad"})
        sound = self.folder / "sound"
        for name in (INIT, "usr/bin/sh"):
            (sound / name).parent.mkdir(parents=True, exist_ok=True)
            (sound / name).write_bytes(files[name])
        counted += self.check_tree(tree, "file-restore", "--from", sound)
        print(f"power cuts: {counted} states of trees")


class Kills(InFolder):
    """The real program on real files, killed at random moments."""

    COUNT = 200 if EVERY else 30

    def test_killed_at_any_moment_it_leaves_what_undo_takes_back(self):
        draft = bios_disk(own_code())
        BIOS_FAULTS["blank-second-fat"](draft)
        path, sound = self.folder / "desk.img", self.folder / "sound.img"
        draft.save(sound)
        before = sound.read_bytes()
        draw, length, ended = random.Random(14), 1.0, []
        for number in range(self.COUNT):
            shutil.rmtree(self.folder / "data", ignore_errors=True)
            draft.save(path)
            began = time.monotonic()
            with subprocess.Popen(
                [PROGRAM, "mend", path, "fat-mirror", "--yes"],
                env={**os.environ, **self.env},
                stdout=subprocess.DEVNULL,
            ) as mending:
                try:
                    mending.wait(draw.uniform(0.4 * length, length) if number else None)
                except subprocess.TimeoutExpired:
                    mending.kill()
            length = length if number else time.monotonic() - began
            ended.append(mending.returncode)
            kept = self.folder / "data" / "mending"
            journal = Journal(kept / "undo", kept / "key")
            if path.read_bytes() == before:
                continue
            (point,) = journal.load().points
            with open_source(str(path), for_writing=True) as source:
                journal.undo(source, point, AT)
            self.assertEqual(path.read_bytes(), before)
        self.assertGreater(ended.count(-9), 0)  # how many depends on what else this machine does
        print(f"killed: {ended.count(-9)} of {self.COUNT}")


if __name__ == "__main__":
    unittest.main()
