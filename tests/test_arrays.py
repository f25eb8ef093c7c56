"""Arrays of software RAID as the kernel and mdadm make them, and what a trace says of their
members.
"""

import hashlib
import os
import re
import tempfile
import unittest
from pathlib import Path
from random import Random

from mending.boot.linux import parse_name
from mending.boot.trace import open_environment
from mending.formats import arrays
from mending.model import Window
from mending.source import open_source
from tests.guest import BUSYBOX, newest_kernel, run_in_guest
from tests.machine import QEMU
from tests.root_disks import ROOT_UUID, system_tree
from tests.support import SECTOR, InFolder, ids, needs, patch, tool, trace_file

KERNEL = Path(f"/boot/vmlinuz-{newest_kernel()}")
MADE = {
    # name: metadata, level, members, more words
    "a": ("0.90", "1", 2, "--assume-clean"),
    "b": ("1.0", "1", 2, "--assume-clean"),
    "c": ("1.1", "0", 2, "--chunk=64"),
    "d": ("1.2", "10", 4, "--chunk=64 --assume-clean"),
    "e": ("1.2", "1", 3, "--assume-clean"),
    "f": ("1.2", "linear", 2, ""),
    "g": ("1.2", "5", 3, "--chunk=64 --assume-clean"),
}
MEMBER = "a19d880f-05fc-4d3b-a006-743f0f84911e"
FIRST, STEP = 2048, 45_056
"""Sectors: the first member, and from one to the next."""


def members():
    """Names of all members, in the order of the drives of the guest."""
    return [f"{name}{number}" for name, row in MADE.items() for number in range(row[2])]


@needs(QEMU, "mdadm", "modprobe", "cpio", "sfdisk", BUSYBOX, KERNEL)
class Arrays(InFolder):
    @classmethod
    def setUpClass(cls):
        cls.home = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.home.cleanup)
        cls.parts, drives, words = Path(cls.home.name), {}, []
        for at, name in enumerate(members()):
            with (cls.parts / name).open("wb") as file:
                file.truncate((20 << 20) + at * 32_768)
            drives[name] = f"/dev/vd{chr(ord('a') + at)}"
        for at, (name, (metadata, level, count, more)) in enumerate(MADE.items()):
            device, used = f"/dev/md{at}", " ".join(drives[f"{name}{n}"] for n in range(count))
            words.append(
                f"yes | mdadm --create {device} --homehost=desk --run --level={level} {more}"
                f" --raid-devices={count} --metadata={metadata} {used}"
            )
            if name == "e":
                words.append(f"mdadm {device} --fail {drives['e2']}; sleep 1")
            words.append(f"dd if=/dev/urandom of={device} bs=1M count=3; md5sum {device}")
            words.append(f"mdadm --stop {device}")
        disks = [cls.parts / name for name in members()]
        modules = ("raid1", "raid0", "raid10", "raid456", "linear")
        said = run_in_guest("\n".join(words), disks, ("mdadm",), modules)
        cls.sums = re.findall(r"([0-9a-f]{32})  /dev/md\d", said)

    def disk(self, *names, called="desk.img"):
        """A disk whose partitions are these members."""
        path = self.folder / called
        with path.open("wb") as file:
            file.truncate((FIRST + STEP * len(names) + 2048) * SECTOR)
        places = [FIRST + STEP * at for at in range(len(names))]
        files = [self.parts / name for name in names]
        rows = [
            f"start={place}, size={file.stat().st_size // SECTOR}, type={MEMBER}"
            for place, file in zip(places, files, strict=True)
        ]
        tool("sfdisk", "-q", path, stdin="label: gpt\n" + "\n".join(rows) + "\n")
        with path.open("r+b") as file:
            for place, member in zip(places, files, strict=True):
                file.seek(place * SECTOR)
                file.write(member.read_bytes())
        return path

    def read(self, *names):
        """The one array on a disk of these members, and the MD5 of its content where it is read."""
        with open_source(str(self.disk(*names))) as source:
            environment = open_environment(source)
            (array,) = environment.arrays
            if array.volume is None:
                return array, ""
            start, left = array.volume.offset, array.volume.bytes
            steps = range(start, start + left, 1 << 20)
            reads = (
                environment.disk.source.read(at, min(1 << 20, start + left - at)) for at in steps
            )
            return array, hashlib.md5(b"".join(each.data for each in reads)).hexdigest()

    def test_every_level_reads_as_the_kernel_reads_it(self):
        rows = (
            (("a0", "a1"), ()),
            (("b1",), (0,)),
            (("c0", "c1"), ()),
            (("c1", "c0"), ()),
            (("d0", "d1", "d2", "d3"), ()),
            (("d0", "d3"), (1, 2)),
            (("e1",), (0, 2)),
            (("f1", "f0"), ()),
        )
        for names, missing in rows:
            with self.subTest(names):
                array, made = self.read(*names)
                wanted = self.sums[list(MADE).index(names[0][0])]
                self.assertEqual((array.unread, array.missing, made), ("", missing, wanted))

    def test_disks_of_one_pc_are_traced_together(self):
        first, second = self.disk("c0"), self.disk("c1", called="other.img")
        alone = self.json_here("trace", first)
        self.assertIn("array-not-read", [each["id"] for each in alone["findings"]])
        both = self.json_here("trace", first, second)
        self.assertEqual([each["id"] for each in both["findings"] if "array" in each["id"]], [])
        numbers = [volume["number"] for volume in both["volumes"]]
        self.assertEqual(numbers, [1, 10_001, 3001])
        self.assertEqual(both["volumes"][2]["type"], "array 2 of volumes 1, 10001")
        (self.folder / "notes").write_text("no disk\n")
        self.run_here("trace", first, self.folder / "notes", expect=3)
        (self.folder / "link").symlink_to(first)
        os.link(first, self.folder / "again")
        for name in ("link", "again", "desk.img"):
            self.run_here("trace", first, self.folder / name, expect=2)

    def test_a_case_keeps_several_disks_and_knows_each(self):
        first, second = self.disk("c0"), self.disk("c1", called="other.img")
        case, later = self.folder / "quay", self.folder / "later"
        self.run_here("open", case, "--disk", first, "--disk", second, "--quiet")
        self.run_here("open", later, "--disk", first, "--quiet")
        alone = [volume["number"] for volume in self.json_here("trace", later)["volumes"]]
        self.run_here("add", later, second, "--beside")
        for each in (case, later):
            numbers = [volume["number"] for volume in self.json_here("trace", each)["volumes"]]
            self.assertEqual((alone, numbers), ([1], [1, 10_001, 3001]))
        self.run_here("add", later, first, "--beside", expect=2)
        self.run_here("open", self.folder / "twice", "--disk", first, "--disk", first, expect=2)
        second.write_bytes(self.disk("f0", called="third.img").read_bytes())
        said = self.run_here("trace", case, expect=4)
        self.assertIn("is not the disk of", " ".join(said.split()))
        second.unlink()
        self.run_here("trace", case, expect=3)

    def test_what_is_lacking_is_named(self):
        for names, why in (
            (("c1",), "number 0"),
            (("d0", "d1"), "number 2, 3"),
            (("g0",), "parity"),
        ):
            array, made = self.read(*names)
            self.assertEqual(made, "")
            self.assertIn(why, array.unread)
            trace = trace_file(self.folder / "desk.img")
            self.assertIn("array-not-read", ids(trace, "warning"))
            kinds = {volume.filesystem for volume in trace.volumes}
            self.assertEqual(kinds, {"raid"})  # and none is called blank

    def test_a_member_that_lags_behind_is_not_read(self):
        array, made = self.read("e2", "e0")
        self.assertEqual((made, [each.number for each in array.stale]), (self.sums[4], [1]))
        self.assertIn("array-member-stale", ids(trace_file(self.folder / "desk.img")))
        self.assertIn("array-member-elsewhere", ids(trace_file(self.disk("e1")), "note"))

    def test_mdadm_says_the_same_of_each_member(self):
        for name in members():
            data = (self.parts / name).read_bytes()
            found = [
                member
                for metadata, at in arrays.raid_places(len(data))
                if (member := arrays.read_member(Window(data[at : at + 4096]), metadata, at))
            ]
            said = tool("mdadm", "--examine", self.parts / name)
            told = dict(
                row.strip().partition(" : ")[::2] for row in said.splitlines() if " : " in row
            )
            told = {key.strip(): value for key, value in told.items()}
            uuid = next(value for key, value in told.items() if key in {"UUID", "Array UUID"})
            self.assertEqual(found[0].array, uuid.split()[0].replace(":", ""))
            self.assertEqual(str(found[0].events), told["Events"])
            self.assertEqual((len(found), found[0].problems), (1, ()))

    def test_a_mirror_with_its_data_in_front_reads_as_what_is_in_it_and_is_not_written_alone(self):
        tree = system_tree(self.folder, "ext4", ROOT_UUID)
        disk = self.disk("b0", "b1")
        for number in (0, 1):
            where = f"offset={(FIRST + STEP * number) * SECTOR}"
            tool(
                "mke2fs",
                "-q",
                "-F",
                "-t",
                "ext4",
                "-U",
                ROOT_UUID,
                "-d",
                tree,
                "-E",
                where,
                disk,
                "20000k",
            )
        trace = trace_file(disk)
        self.assertEqual([volume.filesystem for volume in trace.volumes], ["ext", "ext"])
        self.assertNotIn("identifiers-alike", ids(trace))
        with open_source(str(disk)) as source:
            environment = open_environment(source)
            array = environment.arrays[0]
            self.assertEqual(environment.device(f"mduuid/{array.id}").number, 1)
            self.assertEqual(len(environment.named("uuid", ROOT_UUID)), 1)
            for name in ("/dev/md1", "/dev/md/1", "/dev/md127"):
                found = environment.named("array", parse_name(name).value)
                self.assertEqual([each.number for each in found], [1])
        patch(disk, FIRST * SECTOR + 1024 + 1020, bytes(4))
        self.assertIn("superblock-checksum", ids(trace_file(disk)))
        said = self.run_here("mend", disk, "superblock", "--dry-run", expect=4)
        self.assertIn("one copy of a mirror", " ".join(said.split()))


class AnyBytes(unittest.TestCase):
    def test_no_superblock_ends_in_an_error(self):
        random = Random(3)
        for _ in range(3000):
            data = bytearray(random.randbytes(4096))
            data[:4], major = arrays.RAID_MAGIC, random.choice((0, 1))
            data[4:8] = major.to_bytes(4, "little")
            data[72:76] = random.choice((0, 1, 10)).to_bytes(4, "little")
            for metadata, at in arrays.raid_places(1 << 20):
                if metadata != "0.90":
                    data[144:152] = (at // 512).to_bytes(8, "little")
                arrays.read_member(Window(bytes(data)), metadata, at)
        for length in (0, 511, 4096, 8192, 65_535, 65_536, 70_000):
            self.assertTrue(all(at + 4096 <= length for _, at in arrays.raid_places(length)))


if __name__ == "__main__":
    unittest.main()
