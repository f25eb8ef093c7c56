"""Mounted trees: the same checks, and the repairs that need no disk; files put back by the sums of
their packages.
"""

import gzip
import os
import unittest

from mending.formats import packages
from mending.model import FileChange, InputError
from mending.repair.journal import Journal
from mending.source import FolderOverlay, FolderSource
from tests.support import made_kernel, needs, sha, tool, trace_file
from tests.systems import INIT, MAKERS, ROOT, STATUS, Trees, archive, program


def state_of(tree):
    """Every name below a folder with its kind, mode, owner, date and content; the dates of folders
    aside, in which something was made and taken away.
    """
    found = {}
    for path in sorted(tree.rglob("*")):
        info = path.lstat()
        kept = [info.st_mode, info.st_uid, info.st_gid]
        if path.is_symlink():
            kept.append(str(path.readlink()))
        elif path.is_file():
            kept += [info.st_mtime_ns, info.st_nlink, path.read_bytes()]
            kept += [(name, os.getxattr(path, name)) for name in os.listxattr(path)]
        found[str(path.relative_to(tree))] = kept
    return found


class Traced(Trees):
    def check(self, change, phase, *expected):
        trace = self.json_here("trace", self.folder_of(change))
        fatal = [finding["id"] for finding in trace["findings"] if finding["severity"] == "fatal"]
        self.assertEqual((trace["failing_phase"], fatal), (phase, list(expected)))
        return trace

    def test_a_sound_tree_and_its_faults(self):
        trace = self.check({}, None)
        self.assertEqual(
            (trace["target"]["kind"], trace["verdict"], trace["unread"]["phase"]),
            ("folder", "unsure", "firmware"),
        )
        whole = gzip.compress(archive())
        rows = (
            ("loader", "kernel-damaged", {"boot/vmlinuz": made_kernel()[:30_000]}),
            ("loader", "initramfs-damaged", {"boot/initrd": whole[: len(whole) // 2]}),
            ("boot-manager", "grub-menu-empty", {"boot/grub/grub.cfg": b"set timeout=3\n"}),
            ("kernel", "init-damaged", {INIT: b"no program"}),
            ("session", "accounts-damaged", {"etc/passwd": b""}),
        )
        for phase, expected, change in rows:
            with self.subTest(expected=expected):
                self.check(change, phase, expected)

    def test_a_boot_volume_and_a_system_partition_mounted_in_it(self):
        files = self.tree()
        menu = (
            files.pop("boot/grub/grub.cfg")
            .replace(b"/boot/vmlinuz", b"/vmlinuz")
            .replace(b"/boot/initrd", b"/initrd")
        )
        self.planted({**files, "boot/grub/grub.cfg": menu})
        self.assertEqual(self.json_here("trace", self.folder / "tree")["verdict"], "unsure")
        self.check(
            {"boot/efi/EFI/BOOT/BOOTX64.EFI": b"no loader"}, "boot-record", "efi-loader-damaged"
        )
        self.assertIn("a mounted tree: /, /boot/efi", self.run_here("trace", self.folder / "tree"))

    def test_a_case_of_a_mounted_system(self):
        tree, case = self.folder_of({"boot/grub/grub.cfg": b""}), self.folder / "case"
        self.run_here("open", case, "--disk", tree, "--quiet")
        self.assertEqual(self.json_here("trace", case)["failing_phase"], "boot-manager")
        self.run_here("mend", case, "boot-entries", "--yes")
        self.assertEqual(self.json_here("trace", case)["verdict"], "unsure")
        self.run_here("undo", case)
        self.assertEqual((tree / "boot/grub/grub.cfg").read_bytes(), b"")
        for words in (
            ("plan", case),
            ("causes", case),
            ("report", case, "-o", self.folder / "page.html"),
        ):
            self.run_here(*words)
        self.assertIn("is a folder", self.run_here("rehearse", case, expect=3))
        (self.folder / "empty").mkdir()
        self.assertIn(
            "neither an installed", self.run_here("add", case, self.folder / "empty", expect=3)
        )
        self.run_here(
            "open", self.folder / "other", "--disk", self.folder / "empty", "--quiet", expect=3
        )
        self.assertFalse((self.folder / "other").exists())

    def test_what_is_no_system(self):
        (self.folder / "empty").mkdir()
        says = self.run_here("trace", self.folder / "empty", expect=3)
        self.assertIn("neither an installed Linux system nor a system partition", says)
        self.assertIn("disk image", self.run_here("search", self.folder_of(), expect=3))
        self.assertIn(
            "needs the disk itself",
            self.run_here("mend", self.folder_of(), "boot-code", "--yes", expect=4),
        )

    def test_links_never_lead_out_of_the_tree(self):
        outside = self.folder / "outside"
        outside.write_bytes(program())
        tree = self.folder_of({INIT: None})
        (tree / INIT).parent.mkdir(parents=True, exist_ok=True)
        (tree / INIT).unlink(missing_ok=True)
        (tree / INIT).symlink_to(outside)
        self.assertEqual(self.json_here("trace", tree)["failing_phase"], "kernel")
        source = FolderSource(str(tree), writable=True)
        for path in ("/../outside", f"/{INIT}", "/sbin/init"):
            with self.assertRaises((OSError, InputError)):
                source.read(path, 10)
        with self.assertRaises(InputError):
            source.put(FileChange("/sbin/new", None, b"x", ""))


class Mended(Trees):
    def mend(self, tree, *words):
        before = state_of(tree)
        done = self.json_here("mend", tree, *words, "--yes")
        self.assertEqual((done["after"], done["failing_after"]), ("unsure", None))
        self.run_here("undo", tree)
        self.assertEqual(state_of(tree), before)
        return self.json_here("mend", tree, *words, "--yes")

    def test_a_menu_is_written_anew_and_undone(self):
        for change in ({"boot/grub/grub.cfg": b""}, {"boot/grub/grub.cfg": os.urandom(400)}):
            tree = self.folder_of(change)
            self.mend(tree, "boot-entries")
            text = (tree / "boot/grub/grub.cfg").read_text()
            self.assertIn(f"linux /boot/vmlinuz root=UUID={ROOT} ro", text)
            self.assertIn("initrd /boot/initrd", text)

    def test_bad_files_are_listed_and_put_back(self):
        files = self.with_packages()
        tree = self.folder_of({**files, INIT: b"x" * len(files[INIT]), "usr/lib64/ld.so": None})
        (tree / "usr/lib64/ld.so").unlink(missing_ok=True)
        listed = self.json_here("files", tree)
        states = {
            file["path"]: (file["state"], file["package"], file["copy"]) for file in listed["files"]
        }
        self.assertEqual(listed["checked"], 3)
        self.assertEqual(
            states,
            {
                f"/{INIT}": ("differs", "login", False),
                "/usr/lib64/ld.so": ("missing", "libferry", False),
            },
        )
        self.assertIn(
            "no sound copy is at hand",
            self.run_here("mend", tree, "file-restore", "--yes", expect=4),
        )
        sound = self.folder / "sound"
        for name in (INIT, "usr/lib64/ld.so"):
            (sound / name).parent.mkdir(parents=True, exist_ok=True)
            (sound / name).write_bytes(files[name])
        (sound / INIT).write_bytes(b"of another version")
        says = self.run_here("mend", tree, "file-restore", "--from", sound, "--yes")
        self.assertIn(f"No sound copy: /{INIT}", " ".join(says.split()))
        self.run_here("undo", tree)
        (sound / INIT).write_bytes(files[INIT])
        self.assertIn("at hand", self.run_here("files", tree, "--from", sound))
        self.mend(tree, "file-restore", "--from", sound)
        self.assertEqual((tree / INIT).stat().st_mode & 0o777, 0o755)
        self.run_here("files", tree, "--check")

    @needs("dpkg-deb")
    def test_out_of_real_packages_of_every_packing(self):
        files = self.with_packages()
        for packing in ("xz", "gzip", "zstd", "none"):
            tree = self.folder_of({**files, INIT: b"bad"})
            stage, cache = self.folder / f"stage-{packing}", self.folder / f"cache-{packing}"
            (stage / "DEBIAN").mkdir(parents=True)
            cache.mkdir()
            control = (
                "Package: login\nVersion: 1\nArchitecture: amd64\nMaintainer: Holm"
                " <holm@skerrivane.example>\n"
            )
            (stage / "DEBIAN" / "control").write_text(control + "Description: x\n")
            (stage / INIT).parent.mkdir(parents=True)
            (stage / INIT).write_bytes(files[INIT])
            tool("dpkg-deb", "--root-owner-group", f"-Z{packing}", "-b", stage, cache / "login.deb")
            self.mend(tree, "file-restore", "--from", cache)
            damaged = (cache / "login.deb").read_bytes()[:-40]
            self.assertIsInstance(list(packages.files_of(damaged, {f"/{INIT}": ""}, 1 << 30)), list)

    @needs(*MAKERS)
    def test_on_a_disk_in_the_blocks_a_file_has(self):
        files = self.with_packages()
        path = self.disk({**files, INIT: b"x" * len(files[INIT])})
        sound = self.folder / "sound" / INIT
        sound.parent.mkdir(parents=True)
        sound.write_bytes(files[INIT])
        self.assertEqual(trace_file(path).fatal[0].repairs, ("file-restore",))
        before = sha(path)
        done = self.json_here(
            "mend", path, "file-restore", "--from", self.folder / "sound", "--yes"
        )
        self.assertEqual((done["after"], len(done["writes"])), ("no-fault-found", 1))
        self.run_here("undo", path)
        self.assertEqual(sha(path), before)
        (self.folder / "tree" / INIT).unlink()
        short = self.disk({**files, INIT: b"short"})
        says = self.run_here(
            "mend", short, "file-restore", "--from", self.folder / "sound", "--yes", expect=4
        )
        self.assertIn("needs new blocks", says)
        self.assertIn("--mount", says)
        self.assertIn("no package database", self.run_here("files", self.disk_without(), expect=4))

    def disk_without(self):
        for path in (self.folder / "tree" / "var").rglob("*"):
            if path.is_file():
                path.unlink()
        return self.disk(self.tree())

    @needs(*MAKERS, "e2fsck")
    def test_a_menu_on_a_disk_keeps_its_length(self):
        path = self.disk({**self.tree(), "boot/grub/grub.cfg": b"# nothing\n" * 90})
        done = self.json_here("mend", path, "--all", "--yes")
        self.assertEqual(
            (done["after"], done["steps"][0]["repair"]), ("no-fault-found", "boot-entries")
        )
        (self.folder / "tree" / "boot/grub/grub.cfg").unlink()
        gone = self.tree()
        del gone["boot/grub/grub.cfg"]
        gone["boot/grub/grubenv"] = b"# GRUB Environment Block\n"
        says = self.run_here("mend", self.disk(gone), "boot-entries", "--yes", expect=4)
        self.assertIn("needs new blocks on volume 1", says)

    def test_a_tree_whose_release_file_is_a_link_is_known_again(self):
        tree = self.folder_of({"boot/grub/grub.cfg": b""})
        (tree / "etc/os-release").rename(tree / "usr/lib/os-release")
        (tree / "etc/os-release").symlink_to("../usr/lib/os-release")
        self.mend(tree, "boot-entries")

    def test_cut_off_between_two_files(self):
        files = self.with_packages()
        tree = self.folder_of({**files, INIT: b"bad", "usr/bin/sh": b"bad"})
        before, dated = state_of(tree), (tree / INIT).stat()
        sound = self.folder / "sound"
        for name in (INIT, "usr/bin/sh"):
            (sound / name).parent.mkdir(parents=True, exist_ok=True)
            (sound / name).write_bytes(files[name])
        self.json_here("mend", tree, "file-restore", "--from", sound, "--yes")
        (tree / INIT).write_bytes(b"bad")  # as if the power had gone before this file
        os.utime(tree / INIT, ns=(dated.st_atime_ns, dated.st_mtime_ns))
        kept = self.folder / "data" / "mending"
        journal = Journal(kept / "undo", kept / "key")
        point = journal.load().points[0]
        journal.undo(FolderSource(str(tree), writable=True), point, "2026-11-23T10:00:00Z")
        self.assertEqual(state_of(tree), before)


class WriteBuffer(Trees):
    def test_a_tree_as_it_would_be(self):
        tree = FolderSource(str(self.folder_of()))
        new = FolderOverlay(
            tree,
            [FileChange("/etc/new/a", None, b"abc", ""), FileChange("/etc/fstab", b"", None, "")],
        )
        self.assertIn(("new", 0, True, False, 0o755), new.listing("/etc"))
        self.assertEqual(new.listing("/etc/new"), [("a", 3, False, False, 0o644)])
        self.assertNotIn("fstab", [row[0] for row in new.listing("/etc")])
        self.assertEqual((new.read("/etc/new/a", 2), new.holds("/etc/fstab")), (b"ab", None))

    def test_lists_of_packages(self):
        found = packages.read_dpkg_status(STATUS)
        self.assertEqual(
            {name: finding.needs for name, finding in found.items()},
            {"login": ("libferry", "gone"), "libferry": ()},
        )
        self.assertEqual(
            packages.read_sums("0" * 32 + "  usr/bin/a b\nnonsense\n"), {"/usr/bin/a b": "0" * 32}
        )
        for data in (b"", b"!<arch>\n", b"!<arch>\n" + b"x" * 200):
            self.assertEqual(list(packages.files_of(data, {}, 1000)), [])


if __name__ == "__main__":
    unittest.main()
