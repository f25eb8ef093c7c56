"""Images that other projects test their own programs with: what each volume is, what it is called,
and that a trace of none ends in an error.
"""

import gzip
import lzma
import tarfile
import unittest
from collections import Counter

from mending.boot.trace import trace_target
from mending.disk.layout import volume_at
from mending.disk.volume import read_volume_info
from mending.model import Lba, MendingError, SectorCount
from mending.source import MemorySource
from tests.samples import archive_of, needs_samples
from tests.support import EVERY

KINDS = {
    "crypto_LUKS": "luks",
    "ext2": "ext",
    "ext3": "ext",
    "hfsplus": "hfs+",
    "jbd": "ext-journal",
    "linux_raid_member": "raid",
    "LVM2_member": "lvm",
    "swsuspend": "swap",
    "zfs_member": "zfs",
}
"""What the other project calls a kind that has another name here."""
NOT_READ = {
    *("befs", "bfs", "ceph_bluestore", "drbd", "drbdmanage_control_volume", "hpfs", "minix"),
    *("mpool", "nss", "ubi", "vdo", "xfs_external_log", "zonefs"),
}
"""Kinds that a PC does not start from: nothing is claimed of them but that something is there."""
ONLY_THE_KIND = {"udf", "ufs", "zfs"}
LARGEST, PART = 200 << 20, 3


def images(package, *endings, each=1):
    """Name and content of the images in a source archive, one of so many."""
    with tarfile.open(archive_of(package)) as archive:
        members = [row for row in archive if row.isfile() and row.name.endswith(endings)]
        for member in members[:: 1 if EVERY else each]:
            data = archive.extractfile(member).read()
            unpack = lzma.decompress if member.name.endswith(".xz") else gzip.decompress
            yield member.name, unpack(data)


def told(package, folder):
    """What the project expects of its images: the rows of each file, by its name."""
    found = {}
    with tarfile.open(archive_of(package)) as archive:
        for member in archive:
            if member.isfile() and folder in member.name:
                text = archive.extractfile(member).read().decode("utf-8", "replace")
                rows = [row.partition("=") for row in text.splitlines()]
                found[member.name.rpartition("/")[2]] = {key: value for key, _, value in rows}
    return found


class Marks(unittest.TestCase):
    @needs_samples("util-linux-source")
    def test_every_volume_is_called_what_its_project_calls_it(self):
        expected = told("util-linux-source", "/expected/blkid/low-probe-")
        seen = Counter()
        for path, data in images("util-linux-source", "-fs/.img.xz", ".img.xz"):
            name = path.rpartition("/")[2].removesuffix(".img.xz")
            row = expected.get(f"low-probe-{name}")
            if row is None or "/images-fs/" not in path:
                continue
            source, kind = MemorySource(data), row["ID_FS_TYPE"]
            volume = volume_at(source, Lba(0), SectorCount(len(data) // 512))
            info = read_volume_info(source, volume)
            with self.subTest(name):
                if kind in NOT_READ or (kind.endswith("_member") and kind not in KINDS):
                    self.assertIn(volume.filesystem, {"unknown", "blank"})
                    seen["not read"] += 1
                    continue
                if kind == "vfat":
                    self.assertIn(volume.filesystem, {"fat12", "fat16", "fat32"})
                elif kind == "VMFS":
                    continue
                else:
                    self.assertEqual(volume.filesystem, KINDS.get(kind, kind))
                seen["read"] += 1
                if volume.filesystem in ONLY_THE_KIND:
                    continue
                self.assertEqual(info.identifier.lower(), row.get("ID_FS_UUID", "").lower())
                label = row.get("ID_FS_LABEL", "")
                if label.isascii() and label.strip("_") and kind not in {"hfsplus"}:
                    self.assertEqual((info.label or volume.label).replace(" ", "_"), label)
                elif not label and kind == "vfat":
                    self.assertEqual(info.label, "")
        self.assertGreater(seen["read"], 60)
        self.assertGreater(seen["not read"], 15)

    @needs_samples("util-linux-source", "e2fsprogs-source", "btrfs-progs-source")
    def test_a_trace_of_none_of_them_ends_in_an_error(self):
        seen = Counter()
        for package, endings in (
            ("util-linux-source", (".img.xz",)),
            ("e2fsprogs-source", ("/image.gz", "/image1.gz")),
            ("btrfs-progs-source", (".raw.xz", ".img.xz")),
        ):
            for path, data in images(package, *endings, each=PART):
                if len(data) > LARGEST:
                    continue
                with self.subTest(path):
                    try:
                        trace = trace_target(MemorySource(data))
                    except MendingError:
                        seen["refused"] += 1
                        continue
                    seen[package] += 1
                    self.assertNotEqual(trace.verdict, "no-fault-found")
        part = 1 if EVERY else PART
        self.assertGreater(seen["e2fsprogs-source"] * part, 170)
        self.assertGreater(seen["btrfs-progs-source"] * part, 55)


if __name__ == "__main__":
    unittest.main()
