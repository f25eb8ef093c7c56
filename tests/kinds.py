"""Systems as they are really installed, each of another kind: made from the distribution's own
packages, started under QEMU, broken, traced, mended and started again.

`python -m tests.kinds` (or `make kinds`, with KINDS="lvm raid" for some) makes what is not there
yet below `build/kinds` and writes what came out to `results.json`; what is in there already is not
done again. It needs root, the network for the first time, and time: a start takes a minute or two.
The truth of each fault stands in `FAULTS`, and was written before the program under test saw it.
"""

import contextlib
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from filelock import FileLock

from tests import real, samples
from tests.guest import run_in_guest
from tests.machine import screen_of
from tests.support import GRUB_FILES, PROGRAM, SECTOR, SYSTEM_PATH, patch

HOME = Path(os.environ.get("MENDING_KINDS", Path(__file__).parents[1] / "build" / "kinds"))
MARKER = "ferry-desk login:"
ENDS = ("Kernel panic", "emergency mode", "(initramfs)", "grub rescue>", "dracut:/#", "Boot error")
ROOT, HOMES = "5ea00000-0000-4000-8000-00000000c0de", "5ea00000-0000-4000-8000-0000000000b0"
BOOT, LOCK = "5ea00000-0000-4000-8000-00000000b007", "5ea00000-0000-4000-8000-00000000aaaa"
TREE = "5ea00000-0000-4000-8000-00000000b7f5"
BOOT_ROW = f"UUID={BOOT} /boot ext4 defaults 0 2\n"
BIOS_BOOT = "21686148-6449-6E6F-744E-656564454649"
MIB = 1 << 20
START, BOOT_MIB, ROOT_MIB = 2048, 160, 760
SHIM = samples.SIGNED
MONOLITHIC = Path("/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi")
STUB = Path("/usr/lib/systemd/boot/efi/linuxx64.efi.stub")
KERNEL = "linux-image-cloud-amd64"
PLAIN = "systemd-sysv,zstd,kmod,login,e2fsprogs,udev,lvm2,btrfs-progs,xfsprogs"
PACKAGES = {
    "usual": ("initramfs-tools", "mdadm", "cryptsetup", "cryptsetup-initramfs", "busybox"),
    "dracut": ("dracut",),
}
KEPT = ("systemd_", "dash_", "login_", "libmount1_", "passwd_", "libpam-modules_", "libc6_")
"""Packages that stay in the system's own cache."""
SPARE = ("usr/share/doc", "usr/share/locale", "usr/share/man", "usr/share/zoneinfo", "var/lib/apt")
MASKED = ("e2scrub_reap.service", "systemd-timesyncd.service", "getty@tty1.service")


class Disk(NamedTuple):
    """A made PC. `parts`: where its mountable volumes are, (number of the drive, byte, kind)."""

    drives: list[Path]
    firmware: str
    parts: dict[str, tuple[int, int, str]]

    @property
    def first(self):
        return self.drives[0]

    @contextlib.contextmanager
    def opened(self, name):
        """A volume of it, mounted for writing; what a mirror has is copied to its other member."""
        drive, offset, kind = self.parts[name]
        if kind == "vfat":
            with _by_mtools(f"{self.drives[drive]}@@{offset}", self.first.parent / name) as folder:
                yield folder
            return
        with contextlib.ExitStack() as stack:
            folder = stack.enter_context(_folder(self.first.parent / f"{name}.mounted"))
            options = f"loop,offset={offset}" + (",nouuid" if kind == "xfs" else "")
            run("mount", "-t", kind, "-o", options, self.drives[drive], folder)
            try:
                yield folder
            finally:
                run("umount", folder)
        other = self.parts.get(f"{name}-mirror")
        if other is not None:
            _copy(self.drives[drive], offset, self.drives[other[0]], other[1], ROOT_MIB * MIB)


class Fault(NamedTuple):
    """One way to break a kind, and the truth of it.

    Attributes:
        phase: where the start then stops. names: what the first fatal finding names.
        more: words for `mend`; None where nothing on the disk could mend it.
        shows: what is on the screen; empty where the marker simply does not come.
    """

    name: str
    change: Callable[[Disk], None]
    phase: str
    names: str
    more: tuple[str, ...] | None = ("--mount",)


def run(*words, data=None, check=True, cwd=None):
    env = {**os.environ, "PATH": SYSTEM_PATH, "DEBIAN_FRONTEND": "noninteractive", "LC_ALL": "C"}
    done = subprocess.run(
        list(map(str, words)), input=data, capture_output=True, text=True, env=env, cwd=cwd
    )
    if check and done.returncode:
        sys.exit(f"{' '.join(map(str, words))}: {done.stdout[-1500:]}{done.stderr[-1500:]}")
    return done.stdout


@contextlib.contextmanager
def _folder(path):
    path.mkdir(parents=True, exist_ok=True)
    yield path
    path.rmdir()


@contextlib.contextmanager
def _by_mtools(part, folder):
    """The files of a FAT volume in a folder, and what becomes of them put back."""
    folder.mkdir()
    run("sh", "-c", f"mcopy -s -n -i {part} '::*' {folder}")
    yield folder
    run("sh", "-c", f"mdeltree -i {part} '::*'")
    run("sh", "-c", f"mcopy -s -i {part} {folder}/* ::")
    shutil.rmtree(folder)


def _copy(source, at, target, to, length):
    with source.open("rb") as read, target.open("r+b") as written:
        for step in range(0, length, MIB):
            read.seek(at + step)
            written.seek(to + step)
            written.write(read.read(min(MIB, length - step)))


# --- systems ---


def make_root(name):
    """One installation for all kinds of its maker of initramfs images; `small` is the one that the
    other tests use.
    """
    if name == "small":
        return real.ROOT
    root = HOME / "roots" / name
    if not root.exists():
        new = root.with_name(f"{name}.new")
        shutil.rmtree(new, ignore_errors=True)
        new.parent.mkdir(parents=True, exist_ok=True)
        release = next(
            row.split("=")[1]
            for row in Path("/etc/os-release").read_text().splitlines()
            if row.startswith("VERSION_CODENAME=")
        )
        run("debootstrap", "--variant=minbase", f"--include={PLAIN}", release, new)
        more = ("-y", "-q", "--no-install-recommends", *PACKAGES[name], KERNEL)
        run("chroot", new, "apt-get", "install", *more)
        for spare in SPARE:
            shutil.rmtree(new / spare, ignore_errors=True)
        for unit in MASKED:
            (new / "etc/systemd/system" / unit).unlink(missing_ok=True)
            (new / "etc/systemd/system" / unit).symlink_to("/dev/null")
        (new / "etc/hostname").write_text("ferry-desk\n")
        (new / "etc/os-release").unlink()
        (new / "etc/os-release").write_text('ID=ferry\nNAME=Ferry\nPRETTY_NAME="Ferry Linux 3"\n')
        for package in (new / "var/cache/apt/archives").glob("*.deb"):
            if not package.name.startswith(KEPT):
                package.unlink()
        new.rename(root)
    return root


@contextlib.contextmanager
def system(kind, fstab, line, modules="", crypttab="", base="usual", more=None):
    """The files of one kind, settled, with an initramfs of its own."""
    root, over = make_root(base), HOME / kind / "over"
    shutil.rmtree(over, ignore_errors=True)
    for name in ("upper", "work", "top"):
        (over / name).mkdir(parents=True)
    layers = f"lowerdir={root},upperdir={over / 'upper'},workdir={over / 'work'}"
    run("mount", "-t", "overlay", "overlay", "-o", layers, over / "top")
    try:
        top = over / "top"
        (top / "etc/fstab").write_text(fstab)
        (top / "etc/kernel").mkdir(exist_ok=True)
        (top / "etc/kernel/cmdline").write_text(line + "\n")
        if crypttab:
            (top / "etc/crypttab").write_text(crypttab)
        if more is not None:
            more(top)
        number = version(top)
        if base == "dracut":
            words = ("--no-hostonly", "--force", "--kver", number, "-o", "network nfs")
            drivers = "virtio_blk virtio_pci ext4"
            image = f"/boot/initrd.img-{number}"
            run("chroot", top, "dracut", *words, "--add-drivers", drivers, image)
        else:
            (top / "etc/initramfs-tools/conf.d/ferry").write_text("MODULES=list\n")
            listed = f"virtio_pci virtio_blk sd_mod ext4 {modules}".split()
            (top / "etc/initramfs-tools/modules").write_text("\n".join(listed) + "\n")
            run("chroot", top, "update-initramfs", "-u", "-k", "all")
        grub = top / "boot/grub/i386-pc"
        ignore = shutil.ignore_patterns("*.image", "*.exec", "*.module")
        shutil.copytree(GRUB_FILES, grub, ignore=ignore, dirs_exist_ok=True)
        yield top
    finally:
        run("umount", over / "top")
        shutil.rmtree(over, ignore_errors=True)


def version(top):
    return next(path.name for path in (top / "usr/lib/modules").iterdir())


def menu(top, line, searched, folder="/boot", extra=""):
    """GRUB's menu as an installation writes it."""
    number = version(top)
    text = (
        f"set timeout=0\nset default=0\n{extra}search --no-floppy --fs-uuid --set=root {searched}\n"
        f"menuentry 'Ferry Linux' {{\n  linux {folder}/vmlinuz-{number} {line}\n"
        f"  initrd {folder}/initrd.img-{number}\n}}\n" + "# made when it was installed\n" * 12
    )
    (top / "boot/grub/grub.cfg").write_text(text)


def words(root, more=""):
    return f"root={root} ro {more} quiet console=ttyS0".replace("  ", " ")


def blank(path, mib, table):
    with path.open("wb") as file:
        file.truncate(mib * MIB)
    run("sfdisk", "-q", path, data=table)


def make_core(top, prefix, *modules):
    """The core, kept among the system's files as its installer does."""
    core = top / "boot/grub/i386-pc/core.img"
    base = ("biosdisk", "part_msdos", "part_gpt", "ext2")
    run("grub-mkimage", "-O", "i386-pc", "-p", prefix, "-o", core, *base, *modules)
    shutil.copy(core, HOME / "core")


def put_grub(path, place=1):
    core = HOME / "core"
    patch(path, 0, (GRUB_FILES / "boot.img").read_bytes()[:440])
    code = bytearray(core.read_bytes())
    if place != 1:  # in a partition of its own: where its own first sector finds the rest
        patch(path, 0x5C, place.to_bytes(8, "little"))
        code[0x1F4:0x1FC] = (place + 1).to_bytes(8, "little")
    patch(path, place * SECTOR, bytes(code))


def lay_ext(path, offset, top, uuid, mib=ROOT_MIB, inside=""):
    where = ("-E", f"offset={offset}", "-U", uuid)
    run(
        "mke2fs",
        "-q",
        "-F",
        "-t",
        "ext4",
        "-b",
        "4096",
        "-d",
        top / inside,
        *where,
        path,
        f"{mib}M",
    )


def lay_mounted(path, offset, kind, top, make, inside=""):
    part = path.with_suffix(".part")
    with part.open("wb") as file:
        file.truncate(ROOT_MIB * MIB)
    run(*make, part)
    with _folder(path.parent / "laying") as folder:
        run("mount", "-t", kind, "-o", "loop", part, folder)
        try:
            if kind == "btrfs":
                for name in ("@", "@home"):
                    run("btrfs", "subvolume", "create", folder / name)
            run("cp", "-a", f"{top}/.", folder / inside)
        finally:
            run("umount", folder)
    _copy(part, 0, path, offset, ROOT_MIB * MIB)
    part.unlink()


def esp(path, offset, mib, files):
    part, first = f"{path}@@{offset}", offset // SECTOR
    where = ("--offset", first, "-h", first, path, mib * 1024)
    run("mkfs.fat", "-F", "32", "-s", "1", *where)
    for place, data in files.items():
        folders = place.split("/")[:-1]
        for depth in range(len(folders)):
            run("mmd", "-D", "s", "-i", part, f"::{'/'.join(folders[: depth + 1])}", check=False)
        held = path.with_suffix(".held")
        held.write_bytes(data)
        run("mcopy", "-o", "-i", part, held, f"::{place}")
        held.unlink()


# --- kinds ---


def make_btrfs(home):
    path = home / "pc.img"
    table = f"UUID={TREE} / btrfs subvol=@ 0 0\nUUID={TREE} /home btrfs subvol=@home 0 0\n"
    line = words(f"UUID={TREE}", "rootflags=subvol=@")
    with system("btrfs", table, line, "btrfs", base="small") as top:
        menu(top, line, TREE, "/@/boot")
        make_core(top, "(hd0,msdos1)/@/boot/grub", "btrfs")
        blank(path, ROOT_MIB + 2, f"label: dos\nstart={START},type=83,bootable\n")
        make = ("mkfs.btrfs", "-q", "-f", "-U", TREE)
        lay_mounted(path, START * SECTOR, "btrfs", top, make, "@")
        put_grub(path)
    return Disk([path], "bios", {"root": (0, START * SECTOR, "btrfs")})


def make_lvm(home):
    path, line = home / "pc.img", words("/dev/mapper/ferry--vg-root")
    table = f"/dev/mapper/ferry--vg-root / ext4 defaults 0 1\n{BOOT_ROW}"
    boot = START * SECTOR
    with system("lvm", table, line, "dm_mod") as top:
        menu(top, line, BOOT, "")
        make_core(top, "(hd0,msdos1)/grub", "lvm")
        first, held = START + BOOT_MIB * 2048, ROOT_MIB + 12
        rows = f"start={START},size={BOOT_MIB * 2048},type=83,bootable\nstart={first},type=8e\n"
        blank(path, BOOT_MIB + held + 2, f"label: dos\n{rows}")
        lay_ext(path, boot, top, BOOT, BOOT_MIB, "boot")
        shutil.move(top / "boot", top / "was")
        (top / "boot").mkdir()
        where = first * SECTOR
        loop = run("losetup", "-f", "--show", "-o", where, "--sizelimit", held * MIB, path).strip()
        quiet = ("--driverloaded", "n", "-q", "-q")
        try:
            run("pvcreate", *quiet, loop)
            run("vgcreate", *quiet, "ferry-vg", loop)
            lay = ("-an", "-Zn", "-Wn", "-n", "root", "-L", f"{ROOT_MIB}M", "ferry-vg")
            run("lvcreate", *quiet, *lay)
            start = run("pvs", "--driverloaded", "n", "--noheadings", "--units", "b", "--nosuffix",
                        "-o", "pe_start", loop)  # fmt: skip
        finally:
            run("losetup", "-d", loop)
        shutil.rmtree(top / "was")
        root = where + int(start)
        lay_ext(path, root, top, ROOT)
        put_grub(path)
    return Disk([path], "bios", {"boot": (0, boot, "ext4"), "root": (0, root, "ext4")})


def make_xfs(home):
    path, line = home / "pc.img", words(f"UUID={ROOT}")
    with system("xfs", f"UUID={ROOT} / xfs defaults 0 0\n", line, "xfs") as top:
        menu(top, line, ROOT)
        make_core(top, "(hd0,gpt2)/boot/grub", "xfs")
        first = START + 2048
        rows = f"start={START},size=2048,type={BIOS_BOOT}\n"
        rows += f"start={first},size={ROOT_MIB * 2048}\n"
        blank(path, ROOT_MIB + 4, f"label: gpt\n{rows}")
        make = ("mkfs.xfs", "-q", "-f", "-m", f"uuid={ROOT}")
        lay_mounted(path, first * SECTOR, "xfs", top, make)
        put_grub(path, START)
    return Disk([path], "bios", {"root": (0, first * SECTOR, "xfs")})


def _uefi(home, kind, files, base="usual", modules=""):
    path, line = home / "pc.img", words(f"UUID={ROOT}")
    table = f"UUID={ROOT} / ext4 errors=remount-ro 0 1\n"
    with system(kind, table, line, modules, base=base) as top:
        menu(top, line, ROOT)
        first = START + 128 * 2048
        rows = f"start={START},size={128 * 2048},type=uefi\nstart={first},size={ROOT_MIB * 2048}\n"
        blank(path, 128 + ROOT_MIB + 3, f"label: gpt\n{rows}")
        esp(path, START * SECTOR, 128, files(top, line))
        lay_ext(path, first * SECTOR, top, ROOT)
    parts = {"esp": (0, START * SECTOR, "vfat"), "root": (0, first * SECTOR, "ext4")}
    return Disk([path], "uefi", parts)


def make_signed(home):
    """The chain that signature checking asks for, with a menu of three lines on the ESP."""
    hand = f"search --no-floppy --fs-uuid --set=root {ROOT}\n"
    hand += "set prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"

    def files(top, _line):
        kept = top / "usr/lib/grub/x86_64-efi-signed"
        kept.mkdir(parents=True)
        shutil.copy(MONOLITHIC, kept / "grubx64.efi.signed")
        grub = MONOLITHIC.read_bytes()
        own = GRUB_PREFIX.strip("/")
        return {
            "EFI/BOOT/BOOTX64.EFI": SHIM.read_bytes(),
            "EFI/BOOT/grubx64.efi": grub,
            f"{own}/grub.cfg": hand.encode(),
        }

    return _uefi(home, "signed", files)


GRUB_PREFIX = "/EFI/debian"
"""Where the image of that package looks for its menu: a fact of its file."""


def make_unified(home):
    def files(top, line):
        parts, made = [], home / "linux.efi"
        number = version(top)
        (home / "line").write_text(line)
        for name, file, at in (
            (".osrel", top / "etc/os-release", 0x20000),
            (".cmdline", home / "line", 0x30000),
            (".linux", top / f"boot/vmlinuz-{number}", 0x2000000),
            (".initrd", top / f"boot/initrd.img-{number}", 0x4000000),
        ):
            parts += ["--add-section", f"{name}={file}", "--change-section-vma", f"{name}={at:#x}"]
        run("objcopy", *parts, STUB, made)
        return {"EFI/BOOT/BOOTX64.EFI": made.read_bytes()}

    return _uefi(home, "unified", files)


def make_dracut(home):
    path, line = home / "pc.img", words(f"UUID={ROOT}")
    with system("dracut", f"UUID={ROOT} / ext4 defaults 0 1\n", line, base="dracut") as top:
        menu(top, line, ROOT)
        make_core(top, "(hd0,msdos1)/boot/grub")
        blank(path, ROOT_MIB + 2, f"label: dos\nstart={START},type=83,bootable\n")
        lay_ext(path, START * SECTOR, top, ROOT)
        put_grub(path)
    return Disk([path], "bios", {"root": (0, START * SECTOR, "ext4")})


def make_extlinux(home):
    path, line = home / "pc.img", words(f"UUID={ROOT}")
    with system("extlinux", f"UUID={ROOT} / ext4 defaults 0 1\n", line, base="small") as top:
        number, folder = version(top), top / "boot/extlinux"
        folder.mkdir()
        (folder / "extlinux.conf").write_text(
            f"DEFAULT ferry\nTIMEOUT 10\nLABEL ferry\n  LINUX /boot/vmlinuz-{number}\n"
            f"  INITRD /boot/initrd.img-{number}\n  APPEND {line}\n"
        )
        blank(path, ROOT_MIB + 2, f"label: dos\nstart={START},type=83,bootable\n")
        lay_ext(path, START * SECTOR, top, ROOT)
    patch(path, 0, Path("/usr/lib/EXTLINUX/mbr.bin").read_bytes()[:440])
    made = Disk([path], "bios", {"root": (0, START * SECTOR, "ext4")})
    with made.opened("root") as top:
        run("extlinux", "--install", top / "boot/extlinux")
    return made


def make_raid(home):
    """Two drives, one mirror with its data behind the superblock."""
    drives, line = [home / "pc.img", home / "other.img"], words(f"UUID={ROOT}")
    for path in drives:
        blank(path, ROOT_MIB + 4, f"label: dos\nstart={START},type=fd,bootable\n")
    script = (
        "yes | mdadm --create /dev/md0 --homehost=ferry-desk --name=root --run --level=1"
        " --raid-devices=2 --metadata=1.2 --bitmap=none --assume-clean /dev/vda1 /dev/vdb1\n"
        "mdadm --detail --scan; mdadm --stop /dev/md0"
    )
    said = run_in_guest(script, drives, ("mdadm",), ("raid1",))
    array = next(row for row in said.splitlines() if row.startswith("ARRAY"))
    array = "ARRAY /dev/md/root " + " ".join(array.split()[2:])
    loop = run("losetup", "-f", "--show", "-o", START * SECTOR, drives[0]).strip()
    try:
        told = run("mdadm", "--examine", loop)
    finally:
        run("losetup", "-d", loop)
    behind = int(told.split("Data Offset : ")[1].split()[0]) * SECTOR
    uuid = told.split("Array UUID : ")[1].split()[0].replace(":", "")

    def settle(top):
        (top / "etc/mdadm/mdadm.conf").write_text(f"HOMEHOST <system>\n{array}\n")

    table = f"UUID={ROOT} / ext4 errors=remount-ro 0 1\n"
    with system("raid", table, line, "raid1", more=settle) as top:
        menu(top, line, ROOT)
        make_core(top, f"(mduuid/{uuid})/boot/grub", "mdraid1x", "diskfilter")
        root = START * SECTOR + behind
        for path in drives:
            lay_ext(path, root, top, ROOT, ROOT_MIB - 2)
        _copy(drives[0], root, drives[1], root, (ROOT_MIB - 2) * MIB)
        put_grub(drives[0])
    parts = {"root": (0, root, "ext4"), "root-mirror": (1, root, "ext4")}
    return Disk(drives, "bios", parts)


def make_luks(home):
    path, line = home / "pc.img", words("/dev/mapper/ferry-root")
    key = home / "key"
    key.write_bytes(b"seven berths and a gangway")
    table = f"/dev/mapper/ferry-root / ext4 defaults 0 1\n{BOOT_ROW}"
    locks = f"ferry-root UUID={LOCK} /etc/keys/root.key luks,initramfs\n"

    def settle(top):
        (top / "etc/keys").mkdir()
        shutil.copy(key, top / "etc/keys/root.key")
        (top / "etc/cryptsetup-initramfs/conf-hook").write_text("KEYFILE_PATTERN=/etc/keys/*.key\n")
        (top / "etc/initramfs-tools/initramfs.conf").open("a").write("\nUMASK=0077\n")

    boot = START * SECTOR
    with system("luks", table, line, "dm_crypt", locks, more=settle) as top:
        menu(top, line, BOOT, "")
        make_core(top, "(hd0,msdos1)/grub")
        first, held = START + BOOT_MIB * 2048, ROOT_MIB + 32
        rows = f"start={START},size={BOOT_MIB * 2048},type=83,bootable\nstart={first},type=83\n"
        blank(path, BOOT_MIB + held + 2, f"label: dos\n{rows}")
        lay_ext(path, boot, top, BOOT, BOOT_MIB, "boot")
        shutil.rmtree(top / "boot")
        (top / "boot").mkdir()
        part = home / "part"
        with part.open("wb") as file:
            file.truncate(ROOT_MIB * MIB)
        lay_ext(part, 0, top, ROOT)
        os.truncate(part, held * MIB)
        quick = ("--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", "--key-file", key)
        room = ("--reduce-device-size", "32M", "--type", "luks2", "--uuid", LOCK)
        run("cryptsetup", "-q", "reencrypt", "--encrypt", *room, *quick, part, cwd=home)
        _copy(part, 0, path, first * SECTOR, held * MIB)
        part.unlink()
        put_grub(path)
    return Disk([path], "bios", {"boot": (0, boot, "ext4"), "head": (0, first * SECTOR, "")})


KINDS = {
    "btrfs": make_btrfs,
    "lvm": make_lvm,
    "xfs": make_xfs,
    "signed": make_signed,
    "unified": make_unified,
    "dracut": make_dracut,
    "extlinux": make_extlinux,
    "raid": make_raid,
    "luks": make_luks,
}


# --- faults ---


def removed(part, *paths):
    def change(disk):
        with disk.opened(part) as top:
            for path in paths:
                (top / path).unlink()

    return change


def written(part, path, old, new=None):
    """Some text of a file replaced; all of it where no old one is given."""

    def change(disk):
        with disk.opened(part) as top:
            text = (top / path).read_text() if old is not None else ""
            if old is not None and old not in text:
                sys.exit(f"{path} has no {old!r}")
            (top / path).write_text(text.replace(old, new) if old is not None else new)

    return change


def added(part, path, row):
    def change(disk):
        with disk.opened(part) as top, (top / path).open("a") as file:
            file.write(row)

    return change


def cut(part, path, share=2):
    def change(disk):
        with disk.opened(part) as top:
            found = (top / path).resolve() if not (top / path).is_symlink() else None
            found = found or top / path.rpartition("/")[0] / (top / path).readlink()
            os.truncate(found, found.stat().st_size // share)

    return change


def zeroed(at, length):
    return lambda disk: patch(disk.first, at if isinstance(at, int) else at(disk), bytes(length))


def without(part, *names, folder="boot"):
    """The initramfs packed anew without files of these names, or with one changed."""

    def change(disk):
        with disk.opened(part) as top, _folder(disk.first.parent / "unpacked") as work:
            image = next((top / folder).glob("initrd.img-*"))
            run("sh", "-c", f"zstd -dc {image} | cpio -id --quiet", cwd=work)
            for name in names:
                for found in [each for each in work.rglob(name) if not each.is_dir()]:
                    found.unlink()
            pack = f"find . | cpio -o -H newc --quiet | zstd -q -f -o {image}.new"
            pack += f" && mv {image}.new {image}"
            run("sh", "-c", pack, cwd=work)
            for found in work.iterdir():
                shutil.rmtree(
                    found
                ) if found.is_dir() and not found.is_symlink() else found.unlink()

    return change


LOST = "UUID=5ea00000-0000-4000-8000-00000000dead /cargo ext4 defaults 0 2\n"
CFG, LIB = "boot/grub/grub.cfg", "usr/lib/x86_64-linux-gnu"
ENDING = "[Unit]\nFailureAction=reboot\n[Service]\nExecStart=/usr/bin/tickets\n"


def ending_unit(disk):
    with disk.opened("root") as top:
        home = top / "etc/systemd/system"
        (home / "tickets.service").write_text(ENDING)
        (home / "multi-user.target.wants").mkdir(exist_ok=True)
        (home / "multi-user.target.wants/tickets.service").symlink_to("../tickets.service")


def moved_second_file(disk):
    with disk.opened("root") as top:
        file = top / "boot/extlinux/ldlinux.sys"
        run("chattr", "-i", file)
        data = file.read_bytes()
        file.rename(file.with_name("was"))
        file.write_bytes(data)


def emergency(disk):
    with disk.opened("root") as top:
        (top / "etc/systemd/system/default.target").symlink_to(
            "/usr/lib/systemd/system/emergency.target"
        )


FAULTS = {
    "btrfs": (
        Fault(
            "home's subvolume is gone",
            written("root", "@/etc/fstab", "@home", "@homes"),
            "session",
            "@homes",
        ),
        Fault(
            "wrong root subvolume",
            written("root", f"@/{CFG}", "subvol=@", "subvol=@root"),
            "kernel",
            "@root",
        ),
        Fault("a library cut", cut("root", f"@/{LIB}/libmount.so.1"), "kernel", "libmount"),
        Fault(
            "the root's subvolume renamed",
            lambda disk: _rename(disk, "root", "@", "@was"),
            "boot-manager",
            "@/boot/grub",
            None,
        ),
    ),
    "lvm": (
        Fault("a volume of fstab is gone", added("root", "etc/fstab", LOST), "session", "dead"),
        Fault(
            "the group has another name",
            written("boot", "grub/grub.cfg", "ferry--vg-root", "ferry--v0-root"),
            "kernel",
            "ferry--v0-root",
        ),
        Fault(
            "an initramfs without lvm",
            without("boot", "lvm", folder="."),
            "kernel",
            "volume groups",
            None,
        ),
        Fault("no passwords", written("root", "etc/shadow", None, ""), "session", "/etc/shadow"),
    ),
    "xfs": (
        Fault(
            "the superblock is gone",
            zeroed(lambda disk: disk.parts["root"][1], 512),
            "boot-manager",
            "volume 2",
        ),
        Fault("the core is gone", zeroed(START * SECTOR, 200 * SECTOR), "boot-manager", "core"),
        Fault("no program for the sign-in", removed("root", "usr/bin/login"), "session", "login"),
        Fault(
            "a mount of another kind",
            added("root", "etc/fstab", f"UUID={ROOT} /srv ext4 defaults 0 2\n"),
            "session",
            "ext4",
        ),
    ),
    "signed": (
        Fault(
            "the second loader cut",
            cut("esp", "EFI/BOOT/grubx64.efi"),
            "boot-manager",
            "grubx64.efi",
        ),
        Fault(
            "the menu on the ESP is gone",
            removed("esp", f"{GRUB_PREFIX.strip('/')}/grub.cfg"),
            "boot-manager",
            "grub.cfg",
        ),
        Fault("a unit restarts the PC", ending_unit, "session", "tickets.service"),
        Fault("no link to the loader", removed("root", "lib64"), "kernel", "ld-linux-x86-64"),
    ),
    "unified": (
        Fault(
            "the loader cut", cut("esp", "EFI/BOOT/BOOTX64.EFI"), "boot-record", "BOOTX64.EFI", None
        ),
        Fault("the goal is an emergency shell", emergency, "session", "emergency.target"),
        Fault(
            "a module of the sign-in is gone",
            removed("root", f"{LIB}/security/pam_unix.so"),
            "session",
            "pam_unix.so",
        ),
        Fault(
            "fstab wants a volume that is gone", added("root", "etc/fstab", LOST), "session", "dead"
        ),
    ),
    "dracut": (
        Fault(
            "the initramfs cut",
            lambda disk: _cut_first(disk, "root", "boot", "initrd.img-*"),
            "loader",
            "initrd.img",
            None,
        ),
        Fault(
            "init may not be run",
            lambda disk: _no_mode(disk, "root", "usr/lib/systemd/systemd"),
            "kernel",
            "systemd",
        ),
        Fault(
            "an emergency shell on the command line",
            written("root", CFG, " quiet", " systemd.unit=emergency.target"),
            "session",
            "emergency.target",
            ("--mount", "--anyway"),
        ),
        Fault("no accounts", written("root", "etc/passwd", None, ""), "session", "/etc/passwd"),
    ),
    "extlinux": (
        Fault("the second file moved", moved_second_file, "boot-record", "ldlinux.sys", None),
        Fault(
            "the module is gone",
            removed("root", "boot/extlinux/ldlinux.c32"),
            "boot-manager",
            "ldlinux.c32",
            None,
        ),
        Fault(
            "the menu names another kernel",
            written("root", "boot/extlinux/extlinux.conf", "vmlinuz-6", "vmlinuz-5"),
            "loader",
            "vmlinuz-5",
        ),
        Fault(
            "fstab wants a volume that is gone", added("root", "etc/fstab", LOST), "session", "dead"
        ),
    ),
    "raid": (
        Fault("the boot code is gone", zeroed(0, 440), "boot-record", "blank"),
        Fault("an initramfs without mdadm", without("root", "mdadm"), "kernel", "arrays", None),
        Fault(
            "the root has another name",
            written(
                "root", CFG, f"root=UUID={ROOT}", "root=UUID=5ea00000-0000-4000-8000-00000000dead"
            ),
            "kernel",
            "dead",
            None,
        ),
        Fault(
            "fstab wants a volume that is gone",
            added("root", "etc/fstab", LOST),
            "session",
            "dead",
            None,
        ),
    ),
    "luks": (
        Fault(
            "an initramfs that unlocks nothing",
            without("boot", "cryptsetup", folder="."),
            "kernel",
            "unlock",
            None,
        ),
        Fault(
            "the menu is gone", removed("boot", "grub/grub.cfg"), "boot-manager", "grub.cfg", None
        ),
        Fault(
            "the head is gone",
            zeroed(lambda disk: disk.parts["head"][1], 1 << 20),
            "kernel",
            "ferry-root",
            None,
        ),
        Fault(
            "the kernel cut",
            lambda disk: _cut_first(disk, "boot", ".", "vmlinuz-*"),
            "loader",
            "vmlinuz",
            None,
        ),
    ),
}


def _rename(disk, part, old, new):
    with disk.opened(part) as top:
        (top / old).rename(top / new)


def _cut_first(disk, part, folder, pattern):
    with disk.opened(part) as top:
        found = next((top / folder).glob(pattern))
        os.truncate(found, found.stat().st_size // 2)


def _no_mode(disk, part, path):
    with disk.opened(part) as top:
        (top / path).chmod(0o644)


# --- trying ---


def made(kind):
    """The sound PC of a kind, laid down once."""
    home = HOME / kind
    told = home / "parts.json"
    if not told.exists():
        home.mkdir(parents=True, exist_ok=True)
        disk = KINDS[kind](home)
        rows = {"drives": [path.name for path in disk.drives], "firmware": disk.firmware}
        told.write_text(json.dumps(rows | {"parts": disk.parts}) + "\n")
    rows = json.loads(told.read_text())
    parts = {name: tuple(row) for name, row in rows["parts"].items()}
    return Disk([home / name for name in rows["drives"]], rows["firmware"], parts)


def copied(disk, name):
    """A copy of a PC to be broken."""
    folder = disk.first.parent / name
    folder.mkdir(exist_ok=True)
    for path in disk.drives:
        run("cp", "--sparse=always", path, folder / path.name)
    return Disk([folder / path.name for path in disk.drives], disk.firmware, disk.parts)


def starts(disk):
    shown = screen_of(
        disk.first,
        disk.firmware,
        MARKER,
        seconds=900,
        memory=900,
        idle=400,
        ends=ENDS,
        bus=",if=virtio",
        drives=disk.drives[1:],
    )
    return MARKER in shown, shown[-600:]


def command(*words):
    """What the program says as JSON, and its status."""
    env = {
        **os.environ,
        "XDG_STATE_HOME": str(HOME / "state"),
        "XDG_DATA_HOME": str(HOME / "state"),
    }
    done = subprocess.run(
        [PROGRAM, *map(str, words), "--json"], capture_output=True, text=True, env=env
    )
    if "Traceback" in done.stderr:
        sys.exit(done.stderr)
    return json.loads(done.stdout), done.returncode


def judged(disk):
    """What the trace says: verdict, failing phase, the first fatal finding, seconds and MB."""
    import resource  # noqa: PLC0415

    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    trace, _ = command("trace", disk.first)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    fatal = [each for each in trace["findings"] if each["severity"] == "fatal"]
    return {
        "verdict": trace["verdict"],
        "phase": trace["failing_phase"],
        "says": [each["says"] for each in fatal],
        "open": (trace["unread"] or {}).get("says", ""),
        "warnings": [each["id"] for each in trace["findings"] if each["severity"] == "warning"],
        "seconds": round(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, 2),
        "most_mb": after.ru_maxrss // 1024,
    }


def try_sound(sound, start=True):
    disk = copied(sound, "sound")
    said = judged(disk)
    said["right"] = said["verdict"] == "no-fault-found" or (
        said["phase"] is None and "head" in disk.parts  # behind its lock nothing is seen
    )
    _, status = command("mend", disk.first, "--all", "--yes", "--mount")
    said["left alone"] = status in {0, 4}
    if start:
        said["starts"], said["screen"] = starts(disk)
    shutil.rmtree(disk.first.parent)
    return said


def try_fault(disk, fault, start=True):
    """Break a copy, trace it, mend it, and start the mended one."""
    broken = copied(disk, "broken")
    fault.change(broken)
    said = judged(broken)
    said["right"] = said["phase"] == fault.phase and any(fault.names in row for row in said["says"])
    if fault.more is not None:
        done, said["status"] = command("mend", broken.first, "--all", "--yes", *fault.more)
        said["repairs"] = [each["repair"] for each in done.get("steps", ())]
        said["refused"] = [f"{each['repair']}: {each['says']}" for each in done.get("refused", ())]
        said["after"] = done.get("after", "")
        said["mended"] = done.get("failing_after", "x") is None
        if start and said["mended"]:
            said["starts"], said["screen"] = starts(broken)
    shutil.rmtree(broken.first.parent)
    return said


def noted(change=None):
    """What came out so far, with this added; several may be at work at once."""
    results = HOME / "results.json"
    HOME.mkdir(parents=True, exist_ok=True)
    with FileLock(HOME / "results.lock"):
        told = json.loads(results.read_text()) if results.exists() else {}
        if change:
            told |= change
            results.write_text(json.dumps(told, indent=1) + "\n")
    return told


def main():
    start = "--quick" not in sys.argv
    wanted = [word for word in sys.argv[1:] if not word.startswith("-")] or list(KINDS)
    for kind in wanted:
        disk = made(kind)
        for name, fault in (("sound", None), *((fault.name, fault) for fault in FAULTS[kind])):
            key, told = f"{kind}: {name}", noted()
            done = told.get(key, {})
            to_start = start and (
                fault is None or (done.get("mended", True) and fault.more is not None)
            )
            if done and ("starts" in done or not to_start):
                continue
            said = try_sound(disk, start) if fault is None else try_fault(disk, fault, start)
            noted({key: said})
            shown = {k: v for k, v in said.items() if k not in {"screen", "says", "warnings"}}
            print(key, shown, said["says"][:1], flush=True)


if __name__ == "__main__":
    main()
