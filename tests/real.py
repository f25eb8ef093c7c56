"""Real installed systems for the tests: made by debootstrap, started by GRUB, systemd-boot, or as a
unified kernel.

`python -m tests.real` makes them; that needs the network and the right to change the root of a
process. The tests that use them skip where they are not there. Nothing of them is committed.
"""

import os
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from tests.support import GRUB_FILES, SECTOR, SYSTEM_PATH, patch, tool

FOLDER = Path(os.environ.get("MENDING_REAL", Path(__file__).parents[1] / "build" / "real"))
ROOT = FOLDER / "root"
MARKER = "ferry-desk login:"
ROOT_UUID, ESP_UUID = "5ea00000-0000-4000-8000-00000000c0de", "5EA0-0E57"
VOLUME = FOLDER / "root.ext4"
START, ESP_SECTORS = 2048, 204_800
ROOT_START = START + ESP_SECTORS
_WANTED = "systemd-sysv,linux-image-cloud-amd64,initramfs-tools,zstd,kmod,login,e2fsprogs"
_MODULES = "virtio_pci\nvirtio_blk\next4\nahci\nsd_mod\n"
_MASKED = (
    "e2scrub_reap.service",
    "systemd-timesyncd.service",
    "apt-daily.timer",
    "getty@tty1.service",
    "systemd-hwdb-update.service",
    "console-getty.service",
)
_KEPT_PACKAGES = ("systemd_", "dash_", "login_", "libmount1_")
_SPARE = (
    "usr/share/doc",
    "usr/share/locale",
    "usr/share/man",
    "usr/share/zoneinfo",
    "usr/share/i18n",
    "var/lib/apt/lists",
)


def needs_real(test):
    """Skip a test unless the systems were made; fail where nothing may skip."""
    if VOLUME.exists():
        return test
    if os.environ.get("MENDING_NOTHING_SKIPS"):
        return lambda self: self.fail(f"{VOLUME} should have been made before {test.__name__}")
    return unittest.skip("no real systems here: run `make real`")(test)


def version():
    """Version of the installed kernel."""
    return next(path.name for path in (ROOT / "usr/lib/modules").iterdir())


def words():
    return f"root=UUID={ROOT_UUID} ro quiet console=ttyS0"


def make():
    """Install the system into a folder, and lay it out as one ext4 volume. Does nothing where that
    was done.
    """
    if VOLUME.exists():
        return
    shutil.rmtree(FOLDER, ignore_errors=True)
    FOLDER.mkdir(parents=True)
    release = dict(
        row.split("=", 1) for row in Path("/etc/os-release").read_text().splitlines() if "=" in row
    )
    _run(
        "debootstrap",
        "--variant=minbase",
        f"--include={_WANTED}",
        release["VERSION_CODENAME"],
        ROOT,
    )
    _settle()
    _run(
        "mke2fs",
        "-q",
        "-t",
        "ext4",
        "-b",
        "4096",
        "-d",
        ROOT,
        "-U",
        ROOT_UUID,
        FOLDER / "new.ext4",
        "500M",
    )
    (FOLDER / "new.ext4").rename(VOLUME)


def _settle():
    """What an installation would settings: names, fstab, a small initramfs, GRUB's files."""
    (ROOT / "etc/hostname").write_text("ferry-desk\n")
    (ROOT / "etc/os-release").unlink()
    (ROOT / "etc/os-release").write_text(
        'ID=ferry\nNAME=Ferry\nPRETTY_NAME="Ferry Linux 3"\nVERSION_ID=3\n'
    )
    (ROOT / "etc/fstab").write_text(f"UUID={ROOT_UUID} / ext4 errors=remount-ro 0 1\n")
    (ROOT / "etc/kernel").mkdir(exist_ok=True)
    (ROOT / "etc/kernel/cmdline").write_text(words() + "\n")
    (ROOT / "etc/initramfs-tools/conf.d/ferry").write_text("MODULES=list\n")
    (ROOT / "etc/initramfs-tools/modules").write_text(_MODULES)
    _run("chroot", ROOT, "update-initramfs", "-u", "-k", "all")
    for unit in _MASKED:
        (ROOT / "etc/systemd/system" / unit).unlink(missing_ok=True)
        (ROOT / "etc/systemd/system" / unit).symlink_to("/dev/null")
    for folder in _SPARE:
        shutil.rmtree(ROOT / folder, ignore_errors=True)
    for package in (ROOT / "var/cache/apt/archives").glob("*.deb"):
        if not package.name.startswith(_KEPT_PACKAGES):
            package.unlink()
    grub = ROOT / "boot/grub"
    shutil.copytree(
        GRUB_FILES, grub / "i386-pc", ignore=shutil.ignore_patterns("*.image", "*.exec", "*.module")
    )
    (grub / "grub.cfg").write_text(menu())
    modules = ["biosdisk", "part_msdos", "ext2"]
    _run(
        "grub-mkimage",
        "-O",
        "i386-pc",
        "-p",
        "(hd0,msdos1)/boot/grub",
        "-o",
        grub / "i386-pc/core.img",
        *modules,
    )


def menu():
    """A menu as an installation writes it, with room for a longer one."""
    number = version()
    return (
        f"set timeout=0\nset default=0\nsearch --no-floppy --fs-uuid --set=root {ROOT_UUID}\n"
        f"menuentry 'Ferry Linux' {{\n  linux /boot/vmlinuz-{number} {words()}\n"
        f"  initrd /boot/initrd.img-{number}\n}}\n" + "# made when the system was installed\n" * 12
    )


def bios_disk(path):
    """GRUB in the gap of a disk with a table in sector 0."""
    _blank(path, START + VOLUME.stat().st_size // SECTOR)
    tool(
        "sfdisk",
        "-q",
        path,
        stdin=f"label: dos\nlabel-id: 0x5c0ff1ce\nstart={START},type=83,bootable\n",
    )
    _lay(path, START)
    patch(path, 0, (GRUB_FILES / "boot.img").read_bytes()[:440])
    patch(path, SECTOR, (ROOT / "boot/grub/i386-pc/core.img").read_bytes())
    return path


def uefi_disk(path, inside):
    """An EFI system partition with these files in front of the root; files are paths on this
    machine, or bytes.
    """
    _blank(path, ROOT_START + VOLUME.stat().st_size // SECTOR + 2048)
    root_sectors = VOLUME.stat().st_size // SECTOR
    rows = f"start={START},size={ESP_SECTORS},type=uefi\n"
    rows += f"start={ROOT_START},size={root_sectors},type=linux\n"
    tool("sfdisk", "-q", path, stdin=f"label: gpt\n{rows}")
    where = ["-i", ESP_UUID.replace("-", ""), "--offset", START, "-h", START]
    tool("mkfs.fat", "-F", "32", "-s", "1", *where, path, ESP_SECTORS // 2)
    part = f"{path}@@{START * SECTOR}"
    for place, data in inside.items():
        folders = place.split("/")[:-1]
        for depth in range(len(folders)):
            tool("mmd", "-D", "s", "-i", part, f"::{'/'.join(folders[: depth + 1])}", check=False)
        held = data if isinstance(data, Path) else path.with_suffix(".part")
        if held is not data:
            held.write_bytes(data)
        tool("mcopy", "-o", "-i", part, held, f"::{place}")
    _lay(path, ROOT_START)
    return path


def grub_loader(path, *modules, prefix="/EFI/ferry"):
    """An EFI image of GRUB."""
    tool(
        "grub-mkimage",
        "-O",
        "x86_64-efi",
        "-p",
        prefix,
        "-o",
        path,
        "part_gpt",
        "fat",
        "ext2",
        "normal",
        "linux",
        "search",
        "search_fs_uuid",
        *modules,
    )
    return path


def _blank(path, sectors):
    with path.open("wb") as file:
        file.truncate(sectors * SECTOR)


def _lay(path, start):
    """Copy the root volume in, holes and all."""
    tool(
        "dd",
        f"if={VOLUME}",
        f"of={path}",
        "bs=1M",
        f"seek={start * SECTOR // (1 << 20)}",
        "conv=notrunc,sparse",
    )


def _run(*command):
    env = {**os.environ, "PATH": SYSTEM_PATH, "DEBIAN_FRONTEND": "noninteractive"}
    done = subprocess.run(
        list(map(str, command)), capture_output=True, text=True, check=False, env=env
    )
    if done.returncode:
        sys.exit(f"{command[0]} failed: {done.stdout[-2000:]}{done.stderr[-2000:]}")


if __name__ == "__main__":
    make()
