"""Small Linux systems for the tests: real GRUB images and file systems, and a kernel that cannot
run.
"""

import gzip
import hashlib
import shutil
import struct
from pathlib import Path

from tests.support import (
    GRUB_FILES,
    SECTOR,
    START,
    InFolder,
    ids,
    made_kernel,
    patch,
    tool,
    trace_file,
)

VERSION = "6.1.0-ferry"
ROOT = "5ea00000-0000-4000-8000-00000000c0de"
MENU = f"""
if [ -s $prefix/grubenv ]; then
  load_env
fi
if [ "${{next_entry}}" ] ; then
  set default="${{next_entry}}"
else
  set default="${{saved_entry}}"
fi
insmod ext2
search --no-floppy --fs-uuid --set=root {ROOT}
menuentry 'Ferry Linux' --class linux --id 'ferry' {{
  if [ x$feature_platform_search_hint = xy ]; then
    search --no-floppy --fs-uuid --set=root --hint-bios=hd0,msdos1  {ROOT}
  fi
  echo 'Loading ...'
  linux /boot/vmlinuz root=UUID={ROOT} ro  quiet
  initrd /boot/initrd
}}
submenu 'Older' {{
  menuentry 'Old' {{
    linux /boot/vmlinuz.old root=LABEL=OLD
  }}
}}
"""
MODULES = ("normal", "linux", "search", "chain", "configfile")
"""Of GRUB, where no folder of modules is planted."""
MAKERS = ("sfdisk", "mke2fs", "grub-mkimage", GRUB_FILES / "boot.img")


def cpio(names, *, trailer=True):
    """A newc archive by the published format, of names, or of names and their content."""
    out = b""
    for number, name in enumerate([*names, *(["TRAILER!!!"] if trailer else [])]):
        raw, data = name.encode() + b"\0", b"x" * 10 if name != "TRAILER!!!" else b""
        data = names[name] if isinstance(names, dict) and name in names else data
        fields = (number, 0o100644, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(raw), 0)
        head = b"070701" + b"".join(f"{field:08x}".encode() for field in fields)
        out += (head + raw).ljust(-(-(110 + len(raw)) // 4) * 4, b"\0") + data.ljust(
            -(-len(data) // 4) * 4, b"\0"
        )
    return out


def archive(version=VERSION):
    return cpio(["init", f"usr/lib/modules/{version}/kernel/ferry.ko"])


PASSWD = (
    b"root:x:0:0:root:/root:/usr/bin/sh\ndesk:x:1000:1000::/home/desk:/bin/sh\n"
    b"mail:x:8:8::/:/bin/false\n"
)
LINKS = (
    ("sbin", "usr/sbin"),
    ("bin", "usr/bin"),
    ("lib64", "usr/lib64"),
    ("usr/sbin/init", "../lib/systemd/systemd"),
    ("usr/lib/systemd/system/default.target", "desk.target"),
)


def program(interpreter="/lib64/ld.so"):
    """The head of a 64-bit program by the published layout; nothing behind it."""
    name = interpreter.encode() + b"\0" if interpreter else b""
    head = b"\x7fELF\2\1\1".ljust(16, b"\0") + struct.pack(
        "<HHIQQQIHHHHHH", 3, 62, 1, 0, 64, 0, 0, 64, 56, 1, 0, 0, 0
    )
    return (
        head
        + struct.pack("<IIQQQQQQ", 3 if name else 1, 4, 120, 0, 0, len(name), len(name), 1)
        + name.ljust(40, b"\0")
    )


class Systems(InFolder):
    def tree(self):
        """The files of a small installed system."""
        return {
            "boot/vmlinuz": made_kernel(version=VERSION),
            "boot/initrd": gzip.compress(archive()),
            "boot/grub/grub.cfg": MENU.encode(),
            "etc/os-release": b'PRETTY_NAME="Ferry Linux 3"\n',
            "etc/fstab": f"UUID={ROOT} / ext4 defaults 0 1\n".encode(),
            "usr/lib/systemd/systemd": program(),
            "usr/lib/systemd/system/desk.target": b"[Unit]\n",
            "usr/bin/sh": program(),
            "usr/lib64/ld.so": program(""),
            f"usr/lib/modules/{VERSION}/modules.dep": b"",
            "etc/passwd": PASSWD,
            "etc/shadow": b"root:!:1::::::\n",
        }

    def planted(self, files):
        """The files in a folder, with the links that every system has."""
        shutil.rmtree(self.folder / "tree", ignore_errors=True)
        for name, data in files.items():
            place = self.folder / "tree" / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
            place.chmod(0o755)
        (self.folder / "tree" / "usr" / "sbin").mkdir(parents=True, exist_ok=True)
        for link, target in LINKS:
            place = self.folder / "tree" / link
            place.parent.mkdir(parents=True, exist_ok=True)
            if not place.is_symlink():
                place.symlink_to(target)
        return self.folder / "tree"

    def disk(self, files, prefix="(hd0,msdos1)/boot/grub", modules=MODULES):
        """GRUB in the gap, an ext4 root; a kernel that cannot run, which a trace does not need."""
        path = self.partitioned("chain", f"start={START},size=120000,type=83,bootable")
        tree = self.planted(files)
        core = self.folder / "core"
        tool(
            "grub-mkimage",
            "-O",
            "i386-pc",
            "-o",
            core,
            "-p",
            prefix,
            "biosdisk",
            "part_msdos",
            "ext2",
            *modules,
        )
        where = ["-E", f"offset={START * SECTOR}", "-U", ROOT]
        tool("mke2fs", "-q", "-t", "ext4", "-d", tree, *where, path, "58000k")
        patch(path, 0, (GRUB_FILES / "boot.img").read_bytes()[:440])
        patch(path, SECTOR, core.read_bytes())
        return path

    def check(self, expected, phase, change=None, severity="fatal", **more):
        files = self.tree()
        for name, data in (change or {}).items():
            if data is None:
                del files[name]
                (self.folder / "tree" / name).unlink(missing_ok=True)
            else:
                files[name] = data
        trace = trace_file(self.disk(files, **more))
        self.assertEqual(
            (ids(trace, severity), trace.failing_phase),
            (expected, phase),
            [check.says for check in trace.checks],
        )
        return trace


ESP_UUID, ROOT_PART = "5ea00000-0000-4000-8000-0000000000e5", "5ea00000-0000-4000-8000-000000000007"
EFI_MAKERS = ("sfdisk", "mke2fs", "mkfs.fat", "mcopy", "mmd")
STUB = Path("/usr/lib/systemd/boot/efi/linuxx64.efi.stub")
RELEASE = b"ID=ferry\nPRETTY_NAME='Ferry Linux 3'\nVERSION_ID=3\n"
ROOT_START = 124_928


class EfiSystems(Systems):
    """GPT disks with an EFI system partition and an ext4 root."""

    def efi_disk(self, inside, root=None, name="efi"):
        path = self.folder / f"{name}.img"
        path.write_bytes(bytes(140 << 20))
        rows = (
            f"start={START},size=120000,type=uefi,uuid={ESP_UUID}",
            f"start={ROOT_START},size=120000,type=linux,uuid={ROOT_PART},name=ferry-root",
        )
        tool("sfdisk", "-q", path, stdin="label: gpt\n" + "\n".join(rows) + "\n")
        tool("mkfs.fat", "-F", "32", "-s", "1", "--offset", START, "-h", START, path, 60_000)
        for place, data in inside.items():
            self.put(path, place, data)
        tree = self.planted(self.tree() if root is None else root)
        tool(
            "mke2fs",
            "-q",
            "-t",
            "ext4",
            "-d",
            tree,
            "-U",
            ROOT,
            "-L",
            "FERRY",
            "-E",
            f"offset={ROOT_START * SECTOR}",
            path,
            "58000k",
        )
        return path

    def put(self, path, place, data):
        """A file on the EFI system partition."""
        part, folders = f"{path}@@{START * SECTOR}", place.split("/")[:-1]
        for depth in range(len(folders)):
            tool("mmd", "-D", "s", "-i", part, f"::{'/'.join(folders[: depth + 1])}", check=False)
        held = self.folder / "held"
        held.write_bytes(data)
        tool("mcopy", "-o", "-i", part, held, f"::{place}")

    def unified(
        self, kernel=None, initrd=None, words=f"root=UUID={ROOT} ro quiet", release=RELEASE
    ):
        """A unified kernel, put together as the stub's own documentation says."""
        parts = {
            ".osrel": release,
            ".cmdline": words.encode(),
            ".linux": kernel or made_kernel(version=VERSION),
            ".initrd": gzip.compress(archive()) if initrd is None else initrd,
        }
        at, more = 0x0200_0000, []
        for section, data in parts.items():
            held = self.folder / f"part{section}"
            held.write_bytes(data)
            if data:
                more += [
                    "--add-section",
                    f"{section}={held}",
                    "--change-section-vma",
                    f"{section}={at:#x}",
                ]
            at += 0x0300_0000
        made = self.folder / "unified.efi"
        tool("objcopy", *more, STUB, made)
        return made.read_bytes()


STATUS = """Package: login
Status: install ok installed
Version: 1
Depends: libferry (>= 2), gone | other

Package: libferry
Status: install ok installed
Version: 2
Description: a library
 Depends: nothing

Package: removed
Status: deinstall ok config-files
Version: 1
"""
INIT = "usr/lib/systemd/systemd"


class Trees(Systems):
    def folder_of(self, change=None):
        files = {**self.tree(), **(change or {})}
        return self.planted({name: data for name, data in files.items() if data is not None})

    def with_packages(self):
        """The same tree with the database of two packages that own its programs."""
        files = self.tree()
        sums = {"login": (INIT, "usr/bin/sh"), "libferry": ("usr/lib64/ld.so",)}
        rows = {
            name: "".join(f"{md5(files[one])}  {one}\n" for one in owned)
            for name, owned in sums.items()
        }
        lists = {f"var/lib/dpkg/info/{name}.md5sums": text.encode() for name, text in rows.items()}
        return {**files, **lists, "var/lib/dpkg/status": STATUS.encode()}


def md5(data):
    return hashlib.md5(data, usedforsecurity=False).hexdigest()
