"""Make the templates of the sample PCs with the real mkfs: `python -m tests.templates`, as root
with FUSE for the NTFS one; they are committed.

Only what a trace reads is in them; nothing in them can run.
"""

import gzip
import lzma
import os
import struct
import tempfile
from pathlib import Path

from mending.disk.ntfs import NtfsReader
from mending.model import ByteOffset
from mending.source import MemorySource
from mending.workshop.disks import STORE
from mending.workshop.nt import PARTITION, letter_on_gpt, system_tree
from tests.support import made_kernel, tool
from tests.systems import LINKS, archive, program

FOLDER = Path(__file__).parents[1] / "src" / "mending" / "workshop" / "templates"
LOADER = FOLDER.parent / "code" / "desk-loader-efi.bin"
ROOT_UUID = "5ea00000-0000-4000-8000-00000000de5c"
VERSION = "6.1.0-ferry"
_TIME = "1700000000"
_FILES = {
    "etc/os-release": b'ID=ferry\nPRETTY_NAME="Ferry Linux 3"\nVERSION_ID=3\n',
    "etc/hostname": b"gangway\n",
    "etc/fstab": f"UUID={ROOT_UUID} / ext4 defaults 0 1\n".encode(),
    "etc/passwd": (
        b"root:x:0:0:root:/root:/bin/sh\npurser:x:1000:1000:Purser:/home/purser:/bin/sh\n"
    ),
    "etc/shadow": b"root:!:19000::::::\npurser:!:19000::::::\n",
    "usr/lib/systemd/systemd": program() + b"init of the ticket desk",
    "usr/bin/sh": program(),
    "usr/lib64/ld.so": program(""),
    "usr/lib/systemd/system/desk.target": b"[Unit]\nDescription=Ticket desk\n",
    f"usr/lib/modules/{VERSION}/modules.dep": b"",
    "home/purser/float.txt": b"Till 2: 140.00 to begin the day\n" * 8,
}


def make():
    """All templates."""
    FOLDER.mkdir(exist_ok=True)
    parts = {
        b".osrel": _FILES["etc/os-release"],
        b".cmdline": f"root=UUID={ROOT_UUID} ro quiet".encode(),
        b".linux": made_kernel(version=VERSION),
        b".initrd": gzip.compress(archive(), mtime=0),
    }
    _keep("desk-linux.efi.xz", unified(LOADER.read_bytes(), parts))
    with tempfile.TemporaryDirectory() as folder:
        _keep("linux-root.ext4.xz", root_volume(Path(folder)))
    with tempfile.TemporaryDirectory() as folder:
        volume = nt_volume(Path(folder))
    _keep("nt-system.ntfs.xz", volume)
    (FOLDER / "nt-system.toml").write_text("".join(places(volume)))


def unified(loader, parts):
    """A loader with sections added. Layout: the published PE/COFF specification, sections 3 and
    4.
    """
    data = bytearray(loader.ljust(-(-len(loader) // 512) * 512, b"\0"))
    head = int.from_bytes(data[60:64], "little")
    count, optional = (
        struct.unpack_from("<H", data, head + 6)[0],
        struct.unpack_from("<H", data, head + 20)[0],
    )
    table, address = head + 24 + optional + 40 * count, 0x0010_0000
    for number, (name, content) in enumerate(parts.items()):
        padded = content.ljust(-(-len(content) // 512) * 512, b"\0")
        row = struct.pack(
            "<8sIIIIIIHHI",
            name,
            len(content),
            address,
            len(padded),
            len(data),
            0,
            0,
            0,
            0,
            0x4000_0040,
        )
        data[table + 40 * number : table + 40 * number + 40] = row
        data += padded
        address += 0x0010_0000
    struct.pack_into("<H", data, head + 6, count + len(parts))
    struct.pack_into("<I", data, head + 24 + 56, address)
    return bytes(data)


def root_volume(folder):
    """An ext4 volume as long as the second volume of the sample disks."""
    tree, volume = folder / "tree", folder / "volume"
    for name, data in _FILES.items():
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        (tree / name).write_bytes(data)
        (tree / name).chmod(0o755)
    for link, target in LINKS:
        (tree / link).parent.mkdir(parents=True, exist_ok=True)
        (tree / link).symlink_to(target)
    os.environ["SOURCE_DATE_EPOCH"] = os.environ["E2FSPROGS_FAKE_TIME"] = _TIME
    fixed = ["-U", ROOT_UUID, "-E", f"hash_seed={ROOT_UUID}", "-L", "GANGWAY"]
    tool("mke2fs", "-q", "-t", "ext4", "-b", "1024", "-d", tree, *fixed, volume, "40960k")
    return volume.read_bytes()


def nt_volume(folder):
    """An NTFS volume as long as the second volume of the sample disks, with a whole system."""
    volume, top = folder / "volume", folder / "top"
    top.mkdir()
    start, length = STORE
    volume.write_bytes(bytes(length * 512))
    place = ["-p", start, "-H", 255, "-S", 63]
    tool("mkntfs", "-Q", "-F", "-q", "-L", "HARBOUR", *place, volume)
    tool("ntfs-3g", volume, top)
    try:
        for name, data in system_tree(letter_on_gpt(PARTITION)).items():
            (top / name).parent.mkdir(parents=True, exist_ok=True)
            (top / name).write_bytes(data)
    finally:
        tool("umount", top)
    return volume.read_bytes()


def places(volume):
    """Lines of length and place of each file that has clusters of its own, in one piece."""
    yield "# made with the template: file = [bytes, where it lies in the volume]\n"
    reader = NtfsReader(MemorySource(volume), ByteOffset(0))
    for name, data in system_tree(letter_on_gpt(PARTITION)).items():
        runs = reader.extents(name)
        if runs is not None and data:
            ((start, _),) = runs
            yield f'"{name}" = [{len(data)}, {start}]\n'


def _keep(name, data):
    (FOLDER / name).write_bytes(lzma.compress(data, preset=9))


if __name__ == "__main__":
    make()
