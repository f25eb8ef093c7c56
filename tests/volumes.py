"""Volumes of every kind, made by their own programs, and one disk that lists several of them."""

import functools
from pathlib import Path

from tests.support import SECTOR, tool

MIB = 1 << 20
KEY = ("--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", "--key-file", "/proc/version", "-q")
ENCRYPT = ("cryptsetup", "luksFormat", *KEY)
MAKERS = {
    "fat12": (4, ("mkfs.fat", "-F", "12", "-n", "HOLM")),
    "fat16": (20, ("mkfs.fat", "-F", "16", "-n", "HOLM")),
    "fat32": (40, ("mkfs.fat", "-F", "32", "-s", "1", "-n", "HOLM")),
    "exfat": (8, ("mkfs.exfat", "-L", "HOLM")),
    "ntfs": (8, ("mkfs.ntfs", "-q", "-F", "-f", "-L", "HOLM")),
    "ext2": (20, ("mke2fs", "-q", "-t", "ext2", "-L", "HOLM")),
    "ext3": (20, ("mke2fs", "-q", "-t", "ext3", "-L", "HOLM")),
    "ext4": (20, ("mke2fs", "-q", "-t", "ext4", "-L", "HOLM")),
    "swap": (8, ("mkswap", "-L", "HOLM")),
    "xfs": (310, ("mkfs.xfs", "-q", "-L", "HOLM")),
    "btrfs": (120, ("mkfs.btrfs", "-q", "-L", "HOLM")),
    "luks1": (4, (*ENCRYPT, "--type", "luks1")),
    "luks2": (20, (*ENCRYPT, "--type", "luks2", "--label", "HOLM")),
    "apfs": (128, ("mkapfs", "-L", "HOLM")),
    "iso9660": (1, ("xorriso", "-as", "mkisofs", "-quiet", "-V", "HOLM", "-o")),
}
PROGRAMS = tuple(sorted({command[0] for _, command in MAKERS.values()}))
SIZES = {kind: size * MIB for kind, (size, _) in MAKERS.items()}


def filesystem(kind):
    """What Mending calls a kind of the list."""
    return "ext" if kind.startswith("ext") else "luks" if kind.startswith("luks") else kind


def make_volume(folder, kind, name=None):
    """A volume in a file of its own."""
    path = Path(folder) / (name or kind)
    size, command = MAKERS[kind]
    if kind == "iso9660":
        (Path(folder) / "tree").mkdir(exist_ok=True)
        (Path(folder) / "tree" / "times.txt").write_text("08:10\n")
        tool(*command, path, Path(folder) / "tree")
    else:
        with path.open("wb") as file:
            file.truncate(size * MIB)
        tool(*command, path)
    return path


def disk_of(folder, volumes, label="gpt", name="disk.img", types=None):
    """A disk by sfdisk with these volume files one behind the other, each at a whole MiB; path and
    offsets.
    """
    path, places, lines, at = Path(folder) / name, [], [f"label: {label}"], MIB
    for number, volume in enumerate(volumes):
        size = -(-volume.stat().st_size // MIB) * MIB
        kind = (types or {}).get(number, "linux" if label == "gpt" else "83")
        lines.append(f"start={at // SECTOR},size={size // SECTOR},type={kind}")
        places.append(at)
        at += size
    with path.open("wb") as disk:
        disk.truncate(at + MIB)
    tool("sfdisk", "-q", path, stdin="\n".join(lines) + "\n")
    for volume, place in zip(volumes, places, strict=True):
        with path.open("r+b") as disk, volume.open("rb") as data:
            disk.seek(place)
            for block in iter(functools.partial(data.read, MIB), b""):
                disk.seek(len(block), 1) if not any(block) else disk.write(block)
    return path, places


def told_by_system(path):
    """Type, identifier and label as the system's own prober names them."""
    rows = dict(
        row.split("=", 1)
        for row in tool("blkid", "-p", "-o", "export", path).splitlines()
        if "=" in row
    )
    return {key: rows.get(key, "") for key in ("TYPE", "UUID", "LABEL")}
