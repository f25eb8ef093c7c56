"""What the tests share: running the program, real disks made by real programs, and skipping with a
reason.
"""

import contextlib
import functools
import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from mending.boot.trace import trace_target
from mending.disk.layout import settle_sector_size
from mending.model import Window
from mending.source import MemorySource, open_source
from tests import starts

PROGRAM = Path(sys.executable).with_name("mending")
SYSTEM_PATH = os.pathsep.join([os.environ.get("PATH", ""), "/usr/sbin", "/sbin"])
SECTOR = 512
START = 2048
GRUB_FILES = Path("/usr/lib/grub/i386-pc")
MBR_FILES = Path("/usr/lib/syslinux/mbr")
EVERY = bool(os.environ.get("MENDING_EVERY_FAULT"))
"""Whether the long tests take everything; else a part of it that differs in kind, so that all tests
together are done in half an hour.
"""


def needs(*things):
    """Skip a test, with the reason, unless these programs and files are there; where nothing may
    skip, fail.
    """
    missing = [str(thing) for thing in things if not _present(thing)]

    def decorate(test):
        if missing and os.environ.get("MENDING_NOTHING_SKIPS"):

            @functools.wraps(test)
            def fail(self, *_):
                self.fail(f"{', '.join(missing)} should have been installed")

            return fail
        return unittest.skipIf(missing, f"not on this machine: {', '.join(missing)}")(test)

    return decorate


def _present(thing):
    return (
        thing.exists()
        if isinstance(thing, Path)
        else shutil.which(thing, path=SYSTEM_PATH) is not None
    )


def part_of(things, each):
    """One of so many, in their order; all of them where everything is asked for."""
    listed = list(things)
    return listed if EVERY else listed[::each]


WRITTEN = 6
"""A repair that was written, while something else keeps the PC from starting or was refused: most
tests of repairs are about one of several faults, and take it for 0.
"""


def refused(document):
    """What a `mend-all/1` document says of the repairs that were not done."""
    return " ".join(f"{row['says']} {row['hint']} {row['option']}" for row in document["refused"])


def run(*words, stdin="", expect=0, env=None):
    """Run the installed program; returns what it printed. Fails when the exit status is another
    one; None takes any.
    """
    done = starts.start_program(PROGRAM, words, stdin, env)
    said, complaints = done.stdout.decode(), done.stderr.decode()
    fitting = {expect, WRITTEN} if (words[:1], expect) == (("mend",), 0) else {expect}
    if expect is not None and done.returncode not in fitting:
        raise AssertionError(
            f"{words}: exit {done.returncode} instead of {expect}\n{said}\n{complaints}"
        )
    if "Traceback" in said + complaints:
        raise AssertionError(complaints)
    return said + complaints


def run_json(*words, expect=0, env=None):
    """Run with --json; returns the document."""
    return json.loads(run(*words, "--json", expect=expect, env=env))


def sha(path):
    return hashlib.sha256(Path(path).read_bytes()).hexdigest()


def tool(*words, stdin=None, check=True, cwd=None):
    """Run a system program quietly; fails loudly, unless that it fails says nothing."""
    done = subprocess.run(
        list(map(str, words)),
        input=stdin,
        capture_output=True,
        text=True,
        env={**os.environ, "PATH": SYSTEM_PATH},
        timeout=120,
        cwd=cwd,
    )
    if done.returncode and check:
        raise AssertionError(f"{words}: {done.stdout}{done.stderr}")
    return done.stdout


def patch(path, offset, data):
    with Path(path).open("r+b") as file:
        file.seek(offset)
        file.write(data)


def trace_file(path):
    with open_source(str(path)) as source:
        source.bytes_per_sector = settle_sector_size(source)
        return trace_target(source)


def made_kernel(length=70_000, version="6.1.0-ferry", machine=0x8664):
    """As much of a kernel file as its two headers tell, by the published boot protocol and PE; it
    cannot run.
    """
    head = bytearray(1024)
    head[:2], head[60], head[0x40:0x48] = (
        b"MZ",
        0x40,
        b"PE\0\0" + machine.to_bytes(2, "little") + b"\1\0",
    )
    head[0x54], head[0x58:0x5A], head[0x68:0x6C], head[0x9C] = (
        0xA0,
        b"\x0b\2",
        (0x400).to_bytes(4, "little"),
        10,
    )
    head[0xF8:0xFD] = b".text"
    for at, value in (
        (0x100, length - 1024),
        (0x104, 0x400),
        (0x108, length - 1024),
        (0x10C, 0x400),
    ):
        head[at : at + 4] = value.to_bytes(4, "little")
    head[0x1F1], head[0x1FE:0x200], head[0x202:0x206] = 1, b"\x55\xaa", b"HdrS"
    head[0x1F4:0x1F8] = ((length - 1024) // 16).to_bytes(4, "little")
    head[0x206:0x208], head[0x20E:0x210] = b"\x0f\x02", (0x100).to_bytes(2, "little")
    head[0x300 : 0x300 + len(version)] = version.encode()
    return bytes(head).ljust(length, b"k")


def trace_bytes(data):
    return trace_target(MemorySource(data))


def ids(trace, severity=None):
    return [finding.id for finding in trace.findings if severity in (None, finding.severity)]


class InFolder(unittest.TestCase):
    """A test with a folder of its own, and a data folder so that undo points stay in it."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.env = {
            "XDG_DATA_HOME": str(self.folder / "data"),
            "XDG_CACHE_HOME": str(self.folder.parent / "mending-test-cache"),
        }

    def run_here(self, *words, **more):
        return run(*words, env=self.env, **more)

    def json_here(self, *words, **more):
        return run_json(*words, env=self.env, **more)

    # --- disks made by real programs, never by our own writer ---

    def partitioned(self, name, *lines, mib=64):
        """An image with a table by sfdisk; the lines are its input."""
        path = self.folder / f"{name}.img"
        with path.open("wb") as file:
            file.truncate(mib << 20)
        tool("sfdisk", "-q", path, stdin="label: dos\n" + "\n".join(lines) + "\n")
        return path

    def fat_started_by_syslinux(self, name="sys", bits=16, mib=64):
        """A disk that really starts: sfdisk, mkfs.fat, and the boot programs of Syslinux."""
        sectors = (mib << 11) - START
        kind = {12: "1", 16: "e", 32: "c"}[bits]
        path = self.partitioned(name, f"start={START},size={sectors},type={kind},bootable", mib=mib)
        where = ["--offset", str(START), "-h", str(START)]
        tool("mkfs.fat", "-F", bits, "-s", {12: 64, 16: 4, 32: 1}[bits], *where, path, sectors // 2)
        tool("syslinux", "--install", "--offset", START * SECTOR, path)
        patch(path, 0, (MBR_FILES / "mbr.bin").read_bytes()[:440])
        return path

    def ext_started_by_grub(self, name="grub", stage_one=True):
        """A disk with GRUB's core in the gap and, in an ext4 volume, the files that an installed
        system keeps.
        """
        path = self.partitioned(name, f"start={START},size=120000,type=83")
        tree = self.folder / f"{name}-tree" / "boot" / "grub" / "i386-pc"
        tree.mkdir(parents=True)
        if stage_one:
            shutil.copy(GRUB_FILES / "boot.img", tree)
        (tree.parent / "grub.cfg").write_text(
            f"menuentry Ferry {{ linux /{name}-kernel console=ttyS0 }}\n"
        )
        (tree.parents[2] / f"{name}-kernel").write_bytes(made_kernel())
        core = self.folder / f"{name}.core"
        modules = ["biosdisk", "part_msdos", "ext2", "normal", "linux", "serial", "terminal"]
        modules += ["echo", "halt"]
        tool("grub-mkimage", "-O", "i386-pc", "-o", core, "-p", "(hd0,msdos1)/boot/grub", *modules)
        tool(
            "mke2fs",
            "-q",
            "-t",
            "ext4",
            "-d",
            tree.parents[2],
            "-E",
            f"offset={START * SECTOR}",
            path,
            "58000k",
        )
        patch(path, 0, (GRUB_FILES / "boot.img").read_bytes()[:440])
        patch(path, SECTOR, core.read_bytes())
        return path


def needs_mounts(test):
    """Skip a test where not everything can be mounted: no root, no FUSE, a file system that the
    kernel does not know. That is a matter of the machine, which nothing installs.
    """
    devices = Path("/dev/fuse").exists() and Path("/dev/loop-control").exists()
    known = set(Path("/proc/filesystems").read_text().split())
    able = os.geteuid() == 0 and devices and {"ext4", "xfs", "btrfs"} <= known
    return test if able else unittest.skip("needs root, FUSE, loop devices, ext4, XFS, Btrfs")(test)


@contextlib.contextmanager
def mounted(image, kind, offset=0, options="ro"):
    """A volume as the kernel sees it, or ntfs-3g."""
    with tempfile.TemporaryDirectory() as folder:
        if kind == "ntfs":
            tool("ntfs-3g", "-o", f"permissions,{options}", image, folder)
        else:
            tool("mount", "-t", kind, "-o", f"loop,offset={offset},{options}", image, folder)
        try:
            yield Path(folder)
        finally:
            tool("umount", folder)


def tree_of(top):
    """Every name below a folder with all that a person or a program can see of it."""
    found = {}
    for path in sorted(top.rglob("*")):
        info = path.lstat()
        content = b""
        if path.is_symlink():
            content = str(path.readlink()).encode()
        elif path.is_file():
            content = path.read_bytes()
        kept = {
            name: os.getxattr(path, name, follow_symlinks=False)
            for name in os.listxattr(path, follow_symlinks=False)
        }
        times = None if path.is_dir() else info.st_mtime_ns
        seen = (info.st_mode, info.st_uid, info.st_gid, times, kept, content)
        found[str(path.relative_to(top))] = seen
    return found


class Overlaid(MemorySource):
    """Bytes with other ones over them."""

    over: dict[int, bytes] = {}

    def read(self, offset, length):
        found = super().read(offset, length)
        data = bytearray(found.data)
        for at, put in self.over.items():
            first, last = max(at, offset), min(at + len(put), offset + len(data))
            if first < last:
                data[first - offset : last - offset] = put[first - at : last - at]
        return Window(bytes(data), found.offset)
