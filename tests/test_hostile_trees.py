"""Trees made to lead a repair out of them, and everything that a file has beside its bytes."""

import io
import lzma
import os
import socket
import stat
import tarfile
import unittest
from pathlib import Path
from unittest import mock

from mending.formats import packages
from mending.model import FileAttributes, InputError, RefusedError
from mending.source import FolderSource
from tests.systems import INIT, Trees
from tests.test_folders import state_of

SOUND = b"the content of the technician's own file"


def xattrs_work(folder):
    try:
        os.setxattr(folder, "user.ferry", b"1")
    except OSError:
        return False
    return True


class OpenTree(Trees):
    """A small tree, open for writing, and a file of the technician beside it."""

    def setUp(self):
        super().setUp()
        self.outside = self.folder / "outside"
        self.outside.mkdir()
        (self.outside / "own").write_bytes(SOUND)
        self.top = self.folder / "tree"
        (self.top / "etc").mkdir(parents=True)
        (self.top / "etc/fstab").write_bytes(b"old")
        self.source = FolderSource(str(self.top), writable=True)
        self.addCleanup(self.source.close)

    def put(self, path, data=b"new"):
        self.source.put(self.source.change_of(path, data, ""))

    def unharmed(self):
        self.assertEqual((self.outside / "own").read_bytes(), SOUND)
        self.assertEqual([path.name for path in self.outside.iterdir()], ["own"])


class Writes(OpenTree):
    """Every way out of the tree, tried with the call that writes."""

    def test_links_planted_under_every_name_that_a_helper_file_could_have(self):
        for number in {*range(1, 3000), os.getpid()}:
            (self.top / "etc" / f".fstab.{number}.new").symlink_to(self.outside / "own")
        self.put("/etc/fstab")
        self.assertEqual((self.top / "etc/fstab").read_bytes(), b"new")
        self.unharmed()

    def test_links_out_of_the_tree_on_the_way_and_at_its_end(self):
        (self.top / "boot").symlink_to(self.outside)
        (self.top / "usr").symlink_to("../outside")
        (self.top / "etc/own").symlink_to(self.outside / "own")
        (self.top / "etc/up").symlink_to("..")
        for path in (
            "/boot/own",
            "/boot/new",
            "/usr/own",
            "/etc/own",
            "/etc/up/etc/fstab",
            "/../outside/own",
            "/etc/../../outside/own",
        ):
            with self.subTest(path), self.assertRaises((InputError, OSError)):
                self.put(path)
            with self.subTest(path), self.assertRaises((InputError, OSError)):
                self.source.put(self.source.change_of(path, None, ""))
        with self.assertRaises(OSError):
            self.source.listing("/boot")
        with self.assertRaises(OSError):
            self.source.place("/etc/own")
        self.unharmed()

    def test_a_folder_that_becomes_a_link_between_the_look_and_the_write(self):
        change = self.source.change_of("/etc/fstab", b"new", "")
        (self.top / "etc").rename(self.top / "was-etc")
        (self.outside / "fstab").write_bytes(SOUND)
        (self.top / "etc").symlink_to(self.outside)
        with self.assertRaises(InputError):
            self.source.put(change)
        self.assertEqual((self.outside / "fstab").read_bytes(), SOUND)

    def test_a_tree_whose_top_is_exchanged_stays_the_one_that_was_opened(self):
        self.top.rename(self.folder / "moved")
        self.top.symlink_to(self.outside)
        self.put("/etc/fstab")
        self.assertEqual((self.folder / "moved/etc/fstab").read_bytes(), b"new")
        self.unharmed()

    def test_what_is_no_plain_file_is_neither_read_nor_replaced(self):
        os.mkfifo(self.top / "etc/pipe")
        (self.top / "etc/folder").mkdir()
        place = socket.socket(socket.AF_UNIX)
        self.addCleanup(place.close)
        here = Path.cwd()
        os.chdir(self.top / "etc")
        place.bind("socket")
        os.chdir(here)
        for name in ("pipe", "socket", "folder"):
            with self.subTest(name), self.assertRaises((InputError, OSError)):
                self.put(f"/etc/{name}")
            self.assertFalse(stat.S_ISREG((self.top / "etc" / name).lstat().st_mode))

    def test_a_sparse_file_of_a_tebibyte_is_not_read(self):
        with (self.top / "etc/fstab").open("wb") as file:
            file.truncate(1 << 40)
        with self.assertRaises(InputError) as caught:
            self.put("/etc/fstab")
        self.assertIn("larger than any file", caught.exception.says)

    def test_a_file_with_names_in_other_folders_is_refused_one_beside_goes_along(self):
        os.link(self.top / "etc/fstab", self.top / "etc/fstab.twin")
        self.put("/etc/fstab")
        twin = self.top / "etc/fstab.twin"
        self.assertEqual((twin.read_bytes(), twin.stat().st_nlink), (b"new", 2))
        os.link(twin, self.top / "far")
        with self.assertRaises(RefusedError):
            self.put("/etc/fstab", b"newer")
        self.assertEqual((self.top / "far").read_bytes(), b"new")

    def test_what_this_account_may_not_change_is_refused_before_anything(self):
        change = self.source.change_of("/etc/fstab", b"new", "")
        deep = self.source.change_of("/etc/new/deep/file", b"new", "")
        self.source.refuse_barred([change, deep])
        with mock.patch("os.access", return_value=False):
            for each in (change, deep):
                with self.assertRaisesRegex(RefusedError, "may not be changed"):
                    self.source.refuse_barred([each])

    def test_two_repairs_at_once_and_the_running_system(self):
        with self.assertRaises(RefusedError) as caught:
            FolderSource(str(self.top), writable=True)
        self.assertIn("under way", caught.exception.says)
        with self.assertRaises(RefusedError) as caught:
            FolderSource("/", writable=True)
        self.assertIn("running", caught.exception.says)

    @unittest.skipUnless(os.path.ismount("/proc"), "no process folder is mounted here")
    def test_another_file_system_mounted_into_the_tree_counts_as_empty(self):
        root = FolderSource("/")
        self.addCleanup(root.close)
        self.assertEqual((root.listing("/proc"), root.holds("/proc/version")), ([], None))
        self.assertIn("proc", [row[0] for row in root.listing("/")])
        with self.assertRaises(OSError):
            root.place("/proc/version")

    def test_a_folder_of_too_many_names_is_said_to_be_one(self):
        many = self.top / "many"
        many.mkdir()
        for number in range(100_001):
            os.close(os.open(many / str(number), os.O_CREAT | os.O_WRONLY))
        with self.assertRaises(OSError) as caught:
            self.source.listing("/many")
        self.assertIn("more names", str(caught.exception))


class Beside(OpenTree):
    """Mode, owner, date and attributes, kept over a repair and given back by its undoing."""

    def test_a_replaced_file_keeps_what_it_has_and_gets_its_date_back(self):
        file = self.top / "etc/fstab"
        file.chmod(0o4750)
        os.utime(file, ns=(1, 1_500_000_000_123_456_789))
        if xattrs_work(file):
            os.setxattr(file, "user.ferry", b"pier 4")
        before = state_of(self.top)
        change = self.source.change_of("/etc/fstab", b"new", "")
        self.source.put(change)
        after = state_of(self.top)
        self.assertEqual(after["etc/fstab"][0], before["etc/fstab"][0])
        self.assertEqual(after["etc/fstab"][6:], before["etc/fstab"][6:])
        self.assertEqual(file.read_bytes(), b"new")
        self.source.put(change.turned_round())
        self.assertEqual(state_of(self.top), before)

    def test_new_files_get_the_mode_asked_for_and_their_folders_go_with_them(self):
        before = state_of(self.top)
        mine = os.getuid(), os.getgid()
        wanted = FileAttributes(0o4755, *mine, None)
        change = self.source.change_of("/usr/lib/ferry/sail", b"x", "", wanted)
        self.assertEqual(change.folders, ("/usr", "/usr/lib", "/usr/lib/ferry"))
        self.source.put(change)
        self.assertEqual(stat.S_IMODE((self.top / "usr/lib/ferry/sail").stat().st_mode), 0o4755)
        (self.top / "usr/kept").write_bytes(b"somebody else's")
        self.source.put(change.turned_round())
        self.assertEqual(sorted(path.name for path in (self.top / "usr").iterdir()), ["kept"])
        (self.top / "usr/kept").unlink()
        (self.top / "usr").rmdir()
        self.assertEqual(state_of(self.top), before)

    def test_a_missing_program_comes_back_with_the_mode_of_its_copy(self):
        files = self.with_packages()
        tree = self.folder_of({**files, INIT: None, "usr/bin/sh": b"bad"})
        (tree / INIT).unlink(missing_ok=True)
        (tree / "usr/bin/sh").chmod(0o4711)
        before = state_of(tree)
        sound = self.folder / "sound"
        for name in (INIT, "usr/bin/sh"):
            (sound / name).parent.mkdir(parents=True, exist_ok=True)
            (sound / name).write_bytes(files[name])
            (sound / name).chmod(0o755)
        self.json_here("mend", tree, "file-restore", "--from", sound, "--yes")
        modes = [stat.S_IMODE((tree / name).stat().st_mode) for name in (INIT, "usr/bin/sh")]
        self.assertEqual(modes, [0o755, 0o4711])
        self.run_here("undo", tree)
        self.assertEqual(state_of(tree), before)


class Copies(Trees):
    def test_a_copy_of_a_tree_is_another_tree(self):
        tree = self.folder_of({"boot/grub/grub.cfg": b""})
        self.json_here("mend", tree, "boot-entries", "--yes")
        point = self.json_here("undo", tree, "--list")["points"][0]["id"]
        copy = tree.rename(self.folder / "copied")
        again = self.folder_of({"boot/grub/grub.cfg": (copy / "boot/grub/grub.cfg").read_bytes()})
        before = state_of(again)
        self.assertEqual(self.json_here("undo", again, "--list")["points"], [])
        says = self.run_here("undo", again, point, expect=4)
        self.assertIn("made for another", says)
        self.assertEqual(state_of(again), before)
        self.run_here("undo", copy, point)

    def test_undo_points_never_lie_in_the_tree_itself(self):
        tree = self.folder_of({"boot/grub/grub.cfg": b""})
        before = state_of(tree)
        env = {**self.env, "XDG_DATA_HOME": str(tree / "var/data")}
        self.env = env
        says = self.run_here("mend", tree, "boot-entries", "--yes", expect=4)
        self.assertIn("would lie on", says)
        self.assertEqual(state_of(tree), before)


class Circles(Trees):
    def test_lists_that_include_each_other_are_read_once_each(self):
        rows = "".join(f"@include {name}\n" for name in ("ferry", "login") * 100)
        lists = "include ld.so.conf.d/*.conf\ninclude ld.so.conf\n" * 100
        circles = {
            "usr/bin/login": self.tree()[INIT],
            "etc/pam.d/login": rows.encode(),
            "etc/pam.d/ferry": (rows + "auth required pam_quay.so\n").encode(),
            "etc/ld.so.conf": lists.encode(),
            **{f"etc/ld.so.conf.d/{number}.conf": lists.encode() for number in range(30)},
        }
        trace = self.json_here("trace", self.folder_of(circles))
        (fault,) = [each for each in trace["findings"] if each["severity"] == "fatal"]
        self.assertEqual(fault["id"], "sign-in-module-unfit")
        self.assertIn("/etc/pam.d/ferry, line 201", fault["says"])


class Packages(unittest.TestCase):
    def test_a_package_that_grows_without_end_is_left(self):
        inner = io.BytesIO()
        with tarfile.open(fileobj=inner, mode="w") as archive:
            member = tarfile.TarInfo("./usr/bin/sh")
            member.size = 1 << 22
            archive.addfile(member, io.BytesIO(bytes(member.size)))
        packed = lzma.compress(inner.getvalue())
        head = b"data.tar.xz/".ljust(16) + b"0".ljust(12) * 2 + b"100644  ".rjust(8)
        head = head.ljust(48) + str(len(packed)).encode().ljust(10) + b"`\n"
        package = b"!<arch>\n" + head + packed
        wanted = {"/usr/bin/sh": ""}
        whole = list(packages.files_of(package, wanted, 1 << 24))
        self.assertEqual([len(file.data) for file in whole], [1 << 22])
        self.assertEqual(list(packages.files_of(package, wanted, 1 << 20)), [])


if __name__ == "__main__":
    unittest.main()
