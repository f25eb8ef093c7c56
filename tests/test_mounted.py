"""Repairs that need new blocks: worked out by the driver of the volume on a copy of what it writes,
and carried by the journal like every other.
"""

import os
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from random import Random

from mending.disk.layout import survey
from mending.model import FileAttributes, FilesystemKind, RefusedError
from mending.repair.base import MendSettings
from mending.repair.files.placing import put_by_driver
from mending.source import open_source
from mending.source.mounted import CopyOnWrite, VolumeToMount, drivers_of, work_on
from mending.workshop.disks import _template
from tests.lvm_groups import GROUPS
from tests.root_disks import FIRST, root_disk, system_tree
from tests.support import (
    PROGRAM,
    SECTOR,
    InFolder,
    ids,
    mounted,
    needs,
    needs_mounts,
    refused,
    sha,
    tool,
    trace_file,
    tree_of,
)
from tests.templates import ROOT_UUID
from tests.test_logical_volumes import HOME, group_disk

MIB = 1 << 20
KINDS = {
    # how it is made, and its bytes
    "ext4": (("mkfs.ext4", "-q", "-F", "-U", ROOT_UUID), 48 * MIB),
    "xfs": (("mkfs.xfs", "-q", "-f", "-m", f"uuid={ROOT_UUID}"), 320 * MIB),
    "btrfs": (("mkfs.btrfs", "-q", "-f", "-U", ROOT_UUID), 160 * MIB),
}
MAKERS = ("mkfs.ext4", "mkfs.xfs", "mkfs.btrfs", "mkntfs", "ntfs-3g", "fuse2fs")
LOST = "\nUUID=5ea00000-0000-4000-8000-0000000000ee /cargo ext4 # crates\n"
OPEN = "mending-"


def left_behind():
    """Mounts and loop devices of ours that are still there."""
    mounts = [row for row in Path("/proc/mounts").read_text().splitlines() if OPEN in row]
    loops = [row for row in tool("losetup", "-a").splitlines() if OPEN in row]
    return mounts + loops


@needs(*MAKERS)
@needs_mounts
class Roots(InFolder):
    """Three faults of a root at once, on every kind of volume that a Linux system is on."""

    def disk(self, kind):
        make, size = KINDS[kind]
        tree = system_tree(self.folder, kind, ROOT_UUID)
        volume = self.folder / "volume"
        volume.unlink(missing_ok=True)
        with volume.open("wb") as file:
            file.truncate(size)
        tool(*make, volume)
        with mounted(volume, kind, options="rw") as top:
            shutil.copytree(tree, top, symlinks=True, dirs_exist_ok=True)
            os.setxattr(top / "etc/fstab", "user.berth", b"seven")
            os.chown(top / "etc/fstab", 7, 8)
            with (top / "etc/fstab").open("a") as table:
                table.write(LOST)
            for unit in ("multi-user.target", "ticketd.service"):
                (top / "usr/lib/systemd/system" / unit).write_text("[Unit]\n")
            for init in (top / "sbin/init", top / "usr/sbin/init"):
                init.unlink(missing_ok=True)
            for target in top.rglob("default.target"):
                target.unlink()
        return root_disk(self.folder, volume, f"root=UUID={ROOT_UUID} ro")

    def test_all_are_mended_and_taken_back_to_the_last_byte(self):
        for kind in KINDS:
            with self.subTest(kind):
                path = self.disk(kind)
                before = sha(path)
                with mounted(path, kind, FIRST * SECTOR) as top:
                    was = tree_of(top)
                barred = self.json_here("mend", path, "--all", "--yes", expect=4)
                self.assertIn("--mount", refused(barred))
                self.assertEqual(sha(path), before)
                done = self.json_here("mend", path, "--all", "--yes", "--mount")
                steps = [step["repair"] for step in done["steps"]]
                self.assertEqual(done["after"], "no-fault-found", refused(done))
                self.assertEqual(steps[-1], "default-target")
                with mounted(path, kind, FIRST * SECTOR) as top:
                    now = tree_of(top)
                changed = {name for name in was | now if was.get(name) != now.get(name)}
                self.assertLessEqual(
                    changed,
                    {
                        "etc/fstab",
                        "sbin/init",
                        "usr/sbin/init",
                        "etc/systemd",
                        "etc/systemd/system",
                        "etc/systemd/system/default.target",
                    },
                )
                self.assertIn("/cargo ext4\tnofail # crates", now["etc/fstab"][5].decode())
                self.assertEqual(now["etc/fstab"][:3], was["etc/fstab"][:3])
                self.assertEqual(now["etc/fstab"][4], {"user.berth": b"seven"})
                for _ in steps:
                    self.run_here("undo", path)
                self.assertEqual(sha(path), before)
        self.assertEqual(left_behind(), [])

    def test_a_root_in_a_subvolume_beside_others(self):
        tree = system_tree(self.folder, "btrfs", ROOT_UUID)
        volume = self.folder / "volume"
        make, size = KINDS["btrfs"]
        with volume.open("wb") as file:
            file.truncate(size)
        tool(*make, volume)
        with mounted(volume, "btrfs", options="rw") as top:
            for name in ("@", "@old"):
                tool("btrfs", "subvolume", "create", top / name)
            self.laid_in(tree, top / "@")
        path = root_disk(self.folder, volume, f"root=UUID={ROOT_UUID} ro rootflags=subvol=@")
        before = sha(path)
        done = self.json_here("mend", path, "--all", "--yes", "--mount")
        self.assertEqual(done["after"], "no-fault-found", refused(done))
        with mounted(path, "btrfs", FIRST * SECTOR) as top:
            self.assertEqual(sorted(each.name for each in top.iterdir()), ["@", "@old"])
            self.assertIn("/cargo ext4\tnofail", (top / "@/etc/fstab").read_text())
            self.assertTrue((top / "@/etc/systemd/system/default.target").is_symlink())
        for _ in done["steps"]:
            self.run_here("undo", path)
        self.assertEqual(sha(path), before)

    def test_a_root_on_a_logical_volume_in_pieces_and_striped(self):
        for name in GROUPS:
            root = self.folder / "root.ext4"
            root.write_bytes(_template("linux-root.ext4"))
            with mounted(root, "ext4", options="rw") as top:
                self.laid_in(None, top)
            path = self.folder / f"{name}.img"
            group_disk(path, name, contents={"root": root.read_bytes(), "home": HOME})
            before = sha(path)
            done = self.json_here("mend", path, "--all", "--yes", "--mount")
            self.assertEqual(done["after"], "no-fault-found", refused(done))
            for _ in done["steps"]:
                self.run_here("undo", path)
            self.assertEqual(sha(path), before)

    @staticmethod
    def laid_in(tree, top):
        """A system whose fstab names a volume that is gone, and which has no default target."""
        if tree is not None:
            shutil.copytree(tree, top, symlinks=True, dirs_exist_ok=True)
        with (top / "etc/fstab").open("a") as table:
            table.write(LOST)
        (top / "usr/lib/systemd/system").mkdir(parents=True, exist_ok=True)
        (top / "usr/lib/systemd/system/multi-user.target").write_text("[Unit]\n")
        for target in top.rglob("default.target"):
            target.unlink()

    def test_a_unit_is_turned_off_by_name_and_never_one_that_the_start_needs(self):
        path = self.disk("ext4")
        before = sha(path)
        for name, status in (
            ("systemd-udevd.service", 4),
            ("gone.service", 4),
            ("multi-user.target", 2),
            ("../x.service", 2),
        ):
            words = ("mend", path, "unit-off", "--unit", name, "--yes", "--mount")
            self.run_here(*words, expect=status)
        self.run_here("mend", path, "unit-off", "--yes", expect=2)
        self.assertEqual(sha(path), before)
        words = ("mend", path, "unit-off", "--unit", "ticketd.service", "--yes", "--mount")
        self.json_here(*words)
        with mounted(path, "ext4", FIRST * SECTOR) as top:
            link = top / "etc/systemd/system/ticketd.service"
            self.assertEqual(link.readlink(), Path("/dev/null"))
        self.run_here(*words, expect=4)
        self.run_here("undo", path)
        self.assertEqual(sha(path), before)

    def test_files_of_accounts_come_back_from_the_copies_that_the_system_keeps(self):
        path = self.disk("ext4")
        self.json_here("mend", path, "--all", "--yes", "--mount")
        with mounted(path, "ext4", FIRST * SECTOR, options="rw") as top:
            for name in ("passwd", "shadow", "group"):
                file = top / "etc" / name
                text = file.read_text() if file.exists() else "root:x:0:\nshadow:x:42:\n"
                (top / f"etc/{name}-").write_text(text)
                file.write_text("")
        before = sha(path)
        self.assertEqual(ids(trace_file(path), "fatal"), ["accounts-damaged"])
        done = self.json_here("mend", path, "--all", "--yes", "--mount")
        self.assertEqual(done["after"], "no-fault-found")
        self.assertNotIn("accounts-damaged", ids(trace_file(path)))
        for _ in done["steps"]:
            self.run_here("undo", path)
        self.assertEqual(sha(path), before)
        with mounted(path, "ext4", FIRST * SECTOR, options="rw") as top:
            (top / "etc/passwd-").write_text("nobody\n")
        said = self.run_here("mend", path, "account-copy", "--mount", "--yes", expect=4)
        self.assertIn("not whole either", " ".join(said.split()))

    def test_a_unit_that_ends_every_start_is_found_and_turned_off(self):
        path = self.disk("ext4")
        self.json_here("mend", path, "--all", "--yes", "--mount")
        with mounted(path, "ext4", FIRST * SECTOR, options="rw") as top:
            home = top / "etc/systemd/system"
            (home / "multi-user.target.wants").mkdir(parents=True)
            unit = "[Unit]\nFailureAction=reboot\n[Service]\nExecStart=/usr/bin/gone\n"
            (home / "berth.service").write_text(unit)
            (home / "multi-user.target.wants/berth.service").symlink_to("../berth.service")
        before = sha(path)
        self.assertEqual(ids(trace_file(path), "fatal"), ["unit-ends-start"])
        done = self.json_here("mend", path, "--all", "--yes", "--mount")
        self.assertEqual(
            ([each["repair"] for each in done["steps"]], done["after"]),
            (["unit-off"], "no-fault-found"),
        )
        with mounted(path, "ext4", FIRST * SECTOR) as top:
            self.assertEqual((top / "etc/systemd/system/berth.service").read_text(), unit)
        self.run_here("undo", path)
        self.assertEqual(sha(path), before)

    def test_a_volume_left_open_is_replayed_only_when_asked(self):
        self.disk("ext4")
        volume, left_open = self.folder / "volume", self.folder / "open"
        with mounted(volume, "ext4", options="rw") as top:
            (top / "half").write_bytes(b"written before the power failed" * 500)
            os.sync()
            shutil.copy(volume, left_open)
        path = root_disk(self.folder, left_open, f"root=UUID={ROOT_UUID} ro")
        sound = sha(path)
        said = self.json_here("mend", path, "--all", "--yes", "--mount", expect=4)
        self.assertIn("--replay", refused(said))
        self.assertEqual(sha(path), sound)
        self.assertEqual(
            self.json_here("mend", path, "--all", "--yes", "--mount", "--replay")["after"],
            "no-fault-found",
        )

    def test_killed_at_any_moment_it_is_before_after_or_one_undo_away(self):
        path, random = self.disk("ext4"), Random(17)
        whole = self.folder / "whole.img"
        shutil.copy(path, whole)
        before = sha(path)
        self.assertIn("init-missing", ids(trace_file(path), "fatal"))
        words = ["mend", path, "file-restore", "--yes", "--mount"]
        started = time.monotonic()
        self.run_here(*words)
        span = time.monotonic() - started
        after = sha(path)
        seen = set()
        for _ in range(14):
            shutil.copy(whole, path)
            shutil.rmtree(self.folder / "data", ignore_errors=True)
            program = subprocess.Popen(
                [PROGRAM, *map(str, words)],
                env={**os.environ, **self.env},
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            time.sleep(random.uniform(0.2, span * 1.1))
            program.send_signal(signal.SIGKILL)
            program.wait()
            state = sha(path)
            if state not in {before, after}:
                self.run_here("undo", path)
                self.assertEqual(sha(path), before)
            seen.add(state == before)
        self.assertIn(True, seen)
        time.sleep(0.5)
        self.assertEqual(left_behind(), [])


@needs(*MAKERS)
@needs_mounts
class Drivers(InFolder):
    def volume(self, *make, size=48 * MIB):
        path = self.folder / "volume"
        with path.open("wb") as file:
            file.truncate(size)
        tool(*make, path)
        return path

    def put(self, path, files, attributes=None, **allowed):
        with open_source(str(path)) as source:
            disk = survey(source)
            settings = MendSettings(mount=True, **allowed)
            patches = put_by_driver(disk, disk.volumes[0], settings, files, attributes or {})
        with path.open("r+b") as file:
            for patch in patches:
                file.seek(patch.offset)
                self.assertEqual(file.read(patch.length), patch.before)
                file.seek(patch.offset)
                file.write(patch.after)

    def test_files_and_links_on_ntfs(self):
        path = self.volume("mkntfs", "-q", "-F", "-Q")
        with mounted(path, "ntfs", options="rw") as top:
            (top / "kept").write_bytes(b"old")
            (top / "kept").chmod(0o640)
            os.chown(top / "kept", 12, 13)
        self.put(path, {"/kept": b"new" * 5000})
        with mounted(path, "ntfs") as top:
            self.assertEqual((top / "kept").read_bytes(), b"new" * 5000)
            info = (top / "kept").stat()
            self.assertEqual((info.st_mode, info.st_uid, info.st_gid), (0o100640, 12, 13))
        link = FileAttributes(0o777, 0, 0, None, is_link=True)
        self.put(
            path,
            {"/quay/berth.txt": b"seven" * 3000, "/quay/here": b"berth.txt"},
            {"/quay/here": link},
        )
        with mounted(path, "ntfs") as top:
            self.assertEqual((top / "quay/berth.txt").read_bytes(), b"seven" * 3000)
            self.assertEqual((top / "quay/here").readlink(), Path("berth.txt"))

    def test_every_driver_that_is_known_for_ext_writes_the_same_tree(self):
        path = self.volume("mkfs.ext4", "-q")
        with mounted(path, "ext4", options="rw") as top:
            (top / "keep").write_bytes(b"k" * 70_000)
            (top / "old").write_bytes(b"o" * 9000)
            os.chown(top / "old", 3, 4)
            (top / "old").chmod(0o4750)
            os.setxattr(top / "old", "user.x", b"y")
        data = path.read_bytes()
        trees = []
        for words in drivers_of(FilesystemKind.EXT):
            volume = VolumeToMount(
                "it", lambda offset, length: data[offset : offset + length], len(data), (words,)
            )
            ranges = work_on(volume, _change)
            now = bytearray(data)
            for offset, part in ranges:
                now[offset : offset + len(part)] = part
            path.write_bytes(now)
            tool("e2fsck", "-fn", path)
            with mounted(path, "ext4") as top:
                tree = tree_of(top)
                trees.append({name: (*row[:3], *row[4:]) for name, row in tree.items()})
        self.assertEqual(len(trees), 2)
        self.assertEqual(trees[0], trees[1])
        self.assertEqual(trees[0]["old"][:3], (0o104750, 3, 4))
        self.assertEqual(trees[0]["old"][3:], ({"user.x": b"y"}, b"n" * 30_000))

    def test_a_link_that_leads_out_is_not_followed(self):
        path = self.volume("mkfs.ext4", "-q")
        outside = self.folder / "outside"
        outside.mkdir()
        with mounted(path, "ext4", options="rw") as top:
            (top / "quay").symlink_to(outside)
        with self.assertRaises(RefusedError):
            self.put(path, {"/quay/berth.txt": b"x"})
        self.assertEqual(list(outside.iterdir()), [])

    def test_a_volume_that_asks_for_a_panic_is_overruled(self):
        path = self.volume("mkfs.ext4", "-q", "-e", "panic")
        data = path.read_bytes()
        kernel = drivers_of(FilesystemKind.EXT)[-1]
        volume = VolumeToMount(
            "it", lambda offset, length: data[offset : offset + length], len(data), (kernel,)
        )
        work_on(volume, self._note_options)
        options = (self.folder / "options").read_text().split(",")
        self.assertNotIn("errors=panic", options)
        self.assertLessEqual({"nosuid", "nodev", "noexec", "noatime"}, set(options))

    def _note_options(self, tree):
        rows = Path("/proc/self/mounts").read_text().splitlines()
        row = next(row for row in rows if row.split()[1] == tree.path)
        (self.folder / "options").write_text(row.split()[3])

    def test_what_is_no_sound_volume_is_refused_in_one_sentence(self):
        path = self.volume("mkfs.ext4", "-q")
        with path.open("r+b") as file:
            file.seek(4096)
            file.write(b"\xff" * (1 << 20))
        with self.assertRaises(RefusedError) as caught:
            self.put(path, {"/quay/berth.txt": b"x"}, replay=True)
        self.assertNotIn("Traceback", caught.exception.says)
        self.assertEqual(left_behind(), [])

    def test_no_room(self):
        path = self.volume("mkfs.ext4", "-q", size=4 * MIB)
        with self.assertRaises(RefusedError) as caught:
            self.put(path, {"/big": bytes(range(256)) * 40_000})
        self.assertIn("/big", caught.exception.says)


def _change(tree):
    tree.put(tree.change_of("/new/one", b"1" * 12_345, "", FileAttributes(0o640, 5, 6, 10**18)))
    tree.put(tree.change_of("/old", b"n" * 30_000, ""))
    link = FileAttributes(0o777, 1, 2, 10**18, is_link=True)
    tree.put(tree.change_of("/new/link", b"../keep", "", link))


class Parents(unittest.TestCase):
    def test_a_helper_whose_parent_has_ended_before_it_could_ask_ends_too(self):
        for parent, status, said in (("os.getppid()", 0, "lives"), ("os.getppid() + 1", 1, "")):
            code = (
                "import os; from mending.source.mounted import die_with_parent as ask;"
                f" ask({parent}); print('lives')"
            )
            words = [sys.executable, "-c", code]
            done = subprocess.run(words, capture_output=True, text=True, check=False)
            self.assertEqual((done.returncode, done.stdout.strip()), (status, said), done.stderr)


class Copy(unittest.TestCase):
    def test_reads_see_writes_and_only_what_differs_comes_out(self):
        random = Random(5)
        below = random.randbytes(100_000)
        now, copy = bytearray(below), CopyOnWrite(lambda at, n: below[at : at + n], len(below))
        for _ in range(300):
            at = random.randrange(len(below))
            data = random.randbytes(random.randrange(1, 9000))[: len(below) - at]
            now[at : at + len(data)] = data
            copy.write(at, data)
            start = random.randrange(len(below))
            length = random.randrange(20_000)
            self.assertEqual(copy.read(start, length), now[start : start + length])
        made = bytearray(below)
        for offset, data in copy.changed():
            made[offset : offset + len(data)] = data
        self.assertEqual(made, now)
        same = CopyOnWrite(lambda at, n: below[at : at + n], len(below))
        same.write(5000, below[5000:9000])
        self.assertEqual(list(same.changed()), [])

    def test_its_bounds(self):
        copy = CopyOnWrite(lambda _, n: bytes(n), 50_000, most=8192)
        for at, data in ((49_999, b"xx"), (-1, b"x")):
            with self.assertRaises(OSError):
                copy.write(at, data)
        copy.write(0, b"x" * 8192)
        with self.assertRaises(OSError):
            copy.write(8192, b"x")


class WithoutRights(InFolder):
    @unittest.skipUnless(os.geteuid() == 0, "needs root, to give it up")
    def test_who_is_not_root_gets_one_sentence(self):
        words = "import os; from mending.source.mounted import *; os.setuid(65534); "
        words += "work_on(VolumeToMount('Volume 1', None, 1, ()), None)"
        done = subprocess.run(
            [sys.executable, "-c", words],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertIn("by the administrator only", done.stderr)

    def test_replay_without_mount_is_a_wrong_use(self):
        self.run_here("mend", "x.img", "--replay", expect=2)


if __name__ == "__main__":
    unittest.main()
