"""What volumes say of themselves, against the programs that made them; copies that disagree; and
their repairs.
"""

import re
import struct
import unittest

from mending.boot.trace import trace_target
from mending.disk.files import open_files
from mending.disk.layout import survey
from mending.disk.system import read_contents
from mending.model import crc32c, fletcher64
from mending.source import FaultyMemory, open_source
from tests.support import SECTOR, InFolder, ids, needs, patch, sha, tool, trace_file
from tests.volumes import (
    MAKERS,
    MIB,
    PROGRAMS,
    SIZES,
    disk_of,
    filesystem,
    make_volume,
    told_by_system,
)


class Accounts(InFolder):
    @needs("sfdisk", "blkid", *PROGRAMS)
    def test_every_kind_is_told_as_the_system_tells_it(self):
        volumes = {kind: make_volume(self.folder, kind) for kind in MAKERS}
        path, _ = disk_of(self.folder, volumes.values())
        before = sha(path)
        trace = trace_file(path)
        self.assertEqual(sha(path), before)
        for (kind, volume), seen in zip(volumes.items(), trace.volumes, strict=True):
            with self.subTest(kind):
                told = told_by_system(volume)
                self.assertEqual(
                    (seen.filesystem, seen.encrypted), (filesystem(kind), "luks" in kind)
                )
                wanted = "" if kind == "apfs" else told["UUID"]
                self.assertEqual(seen.identifier or wanted, told["UUID"])
                self.assertEqual(seen.label, told["LABEL"] if kind != "luks1" else "")
                self.assertIn(
                    seen.believes,
                    (
                        (0, *range(int(SIZES[kind] * 0.98), SIZES[kind] + 1))
                        if kind != "iso9660"
                        else (volume.stat().st_size,)
                    ),
                )
                self.assertEqual(seen.partition, self.partition(path, seen.number))
                self.assertTrue(seen.used is None or 0 <= seen.used <= seen.bytes)
        self.assertEqual(
            [
                id_
                for id_ in ids(trace)
                if id_
                not in {
                    "no-efi-volume",
                    "volume-not-checked",
                    "volume-much-smaller-than-entry",
                }
            ],
            [],
        )

    def partition(self, path, number):
        row = tool("sfdisk", "--dump", path).split(f"{path}{number} :")[1].splitlines()[0]
        return re.search(r"uuid=([0-9A-F-]+)", row).group(1).lower()

    @needs(
        "sfdisk",
        "mke2fs",
        "mkfs.fat",
        "mcopy",
        "ntfsfix",
        "mkfs.ntfs",
        "mkswap",
        "debugfs",
        "dumpe2fs",
        "ntfsinfo",
    )
    def test_use_and_state(self):
        ext, fat, ntfs, swap = (
            make_volume(self.folder, kind) for kind in ("ext4", "fat16", "ntfs", "swap")
        )
        file = self.folder / "prices"
        file.write_bytes(bytes(70_000))
        tool("mcopy", "-i", fat, file, "::PRICES.TXT")
        path, _ = disk_of(self.folder, (ext, fat, ntfs, swap))
        rows = dict(
            row.split(":", 1) for row in tool("dumpe2fs", "-h", ext).splitlines() if ":" in row
        )
        blocks, free, size = (
            int(rows[name]) for name in ("Block count", "Free blocks", "Block size")
        )
        clusters = -(-70_000 // 2048) * 2048
        volumes = trace_file(path).volumes
        self.assertEqual(
            [volume.used for volume in volumes[:2]], [(blocks - free) * size, clusters]
        )
        free_clusters = int(
            re.search(r"Free Clusters: (\d+)", tool("ntfsinfo", "-m", ntfs)).group(1)
        )
        self.assertEqual(
            volumes[2].used, SIZES["ntfs"] // 4096 * 4096 - 4096 - free_clusters * 4096
        )
        self.assertEqual({volume.state for volume in volumes}, {"clean"})
        tool("debugfs", "-w", "-R", "feature needs_recovery", ext)
        fat_start = struct.unpack_from("<H", fat.read_bytes(), 14)[0] * SECTOR
        patch(fat, fat_start + 2, b"\xff\x7f")
        tool("ntfsfix", ntfs)
        patch(swap, 4086, b"S1SUSPEND\0")
        trace = trace_file(disk_of(self.folder, (ext, fat, ntfs, swap))[0])
        self.assertEqual(
            [volume.state for volume in trace.volumes], ["dirty", "dirty", "dirty", "hibernated"]
        )
        self.assertEqual(set(ids(trace)) - {"no-efi-volume"}, {"volume-hibernated"})

    def test_checksums_are_the_published_ones(self):
        self.assertEqual(
            crc32c(b"123456789") ^ 0xFFFFFFFF, 0xE3069283
        )  # RFC 3720, B.4 in other words
        self.assertEqual(crc32c(bytes(32)) ^ 0xFFFFFFFF, 0x8A9136AA)
        self.assertEqual(fletcher64(b""), 0xFFFFFFFF << 32 | 0xFFFFFFFF)

    @needs("sfdisk", "sgdisk", "mke2fs")
    def test_names_that_two_bear_are_said(self):
        one = make_volume(self.folder, "ext2")
        path, _ = disk_of(self.folder, [one, one])
        self.assertEqual(set(ids(trace_file(path), "warning")), {"identifiers-alike"})
        guid = "5EA00000-0000-4000-8000-00000000C0DE"
        tool("sgdisk", "-u", f"1:{guid}", "-u", f"2:{guid}", path)
        trace = trace_file(path)
        self.assertEqual(set(ids(trace, "warning")), {"identifiers-alike", "gpt-guids-alike"})
        self.assertEqual({volume.partition for volume in trace.volumes}, {guid.lower()})

    @needs("sfdisk")
    def test_a_made_header_of_hfs_plus(self):
        volume = self.folder / "hfs"
        header = struct.pack(">2sHI", b"H+", 4, 1 << 8).ljust(40, b"\0") + struct.pack(
            ">III", 4096, 512, 100
        )
        for head, state in ((header, "clean"), (header[:4] + bytes(4) + header[8:], "dirty")):
            volume.write_bytes(bytes(1024) + head.ljust(512, b"\0") + bytes(2 * MIB - 1536))
            seen = trace_file(disk_of(self.folder, [volume])[0]).volumes[0]
            self.assertEqual(
                (seen.filesystem, seen.believes, seen.used, seen.state),
                ("hfs+", 2 * MIB, 412 * 4096, state),
            )

    @needs("sfdisk", "mke2fs", "mkfs.ntfs", "mkfs.fat", "mcopy")
    def test_roles_come_from_content(self):
        trees = {
            "system": {
                "etc/os-release": b'PRETTY_NAME="Ferry Linux 3"\n',
                "usr/x": b"",
                "OLD/etc/os-release": b"NAME=x\n",
            },
            "system-partition": {"grub/grub.cfg": b"menu", "vmlinuz-6": b"x"},
            "data": {"tickets/etc.txt": b"1"},
            "recovery": {"images/small.wim": b"\0\0WIM\0\0\0" + bytes(90)},
        }
        volumes = [self.ext(name, files) for name, files in trees.items()]
        trace = trace_file(
            disk_of(self.folder, volumes, types={0: "uefi", 1: "swap", 2: "linux", 3: "linux"})[0]
        )
        self.assertEqual([volume.role for volume in trace.volumes], list(trees))
        self.assertEqual([volume.earlier for volume in trace.volumes], [("/OLD",), (), (), ()])
        self.assertEqual(
            [(system.family, system.title) for system in trace.systems],
            [("linux", "Ferry Linux 3")],
        )

    @needs("mke2fs", "sfdisk")
    def test_of_two_installations_on_one_volume_the_one_written_last_is_the_system(self):
        def hive(stamp):
            return b"regf" + bytes(8) + struct.pack("<Q", stamp) + bytes(492)

        files = {
            f"{folder}/system32/config/system": hive(stamp)
            for folder, stamp in (("NT", 9), ("NT.000", 5))
        }
        files["moved/NT/system32/config/system"] = hive(99)
        trace = trace_file(disk_of(self.folder, [self.ext("two", files)])[0])
        self.assertEqual(
            [(system.family, system.title) for system in trace.systems], [("nt", "/NT")]
        )
        self.assertEqual(trace.volumes[0].earlier, ("/NT.000", "/moved/NT"))

    def ext(self, name, files):
        for path, data in files.items():
            place = self.folder / f"{name}-tree" / path
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
        volume = self.folder / name
        volume.write_bytes(bytes(12 * MIB))
        tool("mke2fs", "-q", "-t", "ext4", "-d", self.folder / f"{name}-tree", volume)
        return volume


class Unreadable(InFolder):
    @needs("sfdisk", "mkfs.fat", "mkfs.ntfs", "mke2fs")
    def test_bad_sectors_in_one_volume_do_not_stop_the_others_and_are_said(self):
        volumes = [make_volume(self.folder, kind) for kind in ("fat16", "ntfs", "ext4")]
        path, places = disk_of(self.folder, volumes)
        data = path.read_bytes()
        fat = places[0] + struct.unpack_from("<H", data, places[0] + 14)[0] * SECTOR
        for bad, number, finding in (
            ((fat, SECTOR), 0, "fat-unreadable"),
            ((places[0], SECTOR), 0, "volume-unreadable"),
            ((places[1] + 16384, 8192), 1, "file-table-damaged"),
            ((places[2] + 1024, SECTOR), 2, "volume-unreadable"),
        ):
            trace = trace_target(FaultyMemory(data, bad=(bad,)))
            self.assertIn(finding, ids(trace))
            sound = [one for at, one in enumerate(trace.volumes) if at != number]
            self.assertEqual([(one.label, one.state) for one in sound], [("HOLM", "clean")] * 2)


class Superblock(InFolder):
    def disk(self, *options):
        volume = self.folder / "volume"
        volume.write_bytes(bytes(60 * MIB))
        tree = self.folder / "tree"
        (tree / "etc").mkdir(parents=True, exist_ok=True)
        (tree / "usr").mkdir(exist_ok=True)
        (tree / "etc" / "os-release").write_text('PRETTY_NAME="Ferry Linux 3"\n')
        tool("mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", *options, "-d", tree, volume)
        return disk_of(self.folder, [volume], "dos")[0]

    def volume(self, path):
        part = self.folder / "part"
        part.write_bytes(path.read_bytes()[MIB : 61 * MIB])
        return part

    @needs("sfdisk", "mke2fs", "e2fsck", "debugfs")
    def test_a_lost_superblock_comes_back_and_the_systems_checker_is_content(self):
        for options in ((), ("-O", "^metadata_csum,^64bit"), ("-O", "sparse_super2")):
            path = self.disk(*options)
            sound = path.read_bytes()
            for at, data in ((0, bytes(1024)), (56, b"\0\0"), (24, b"\x63\0\0\0"), (32, bytes(4))):
                path.write_bytes(sound)
                patch(path, MIB + 1024 + at, data)
                broken = sha(path)
                trace = trace_file(path)
                self.assertIn("first-superblock-lost", ids(trace))
                self.assertEqual((trace.volumes[0].filesystem, trace.systems), ("ext", ()))
                self.json_here("mend", path, "superblock", "--yes")
                self.assertEqual(trace_file(path).systems[0].title, "Ferry Linux 3")
                self.assertIn("non-contiguous", tool("e2fsck", "-fn", self.volume(path)))
                self.run_here("undo", path)
                self.assertEqual(sha(path), broken)

    @needs("sfdisk", "mke2fs", "debugfs")
    def test_a_journal_that_holds_something_is_kept(self):
        path = self.disk()
        volume = self.volume(path)
        journal = int(tool("debugfs", "-R", "bmap <8> 0", volume).split()[-1])
        patch(path, MIB + journal * 1024 + 28, (1).to_bytes(4, "big"))
        patch(path, MIB + 1024, bytes(1024))
        self.json_here("mend", path, "superblock", "--yes")
        self.assertIn("needs_recovery", tool("dumpe2fs", "-h", self.volume(path)))

    @needs("sfdisk", "mke2fs", "mkswap")
    def test_it_is_refused_where_more_is_lost_or_a_system_sleeps(self):
        path = self.disk()
        self.assertIn(
            "nothing to write", self.run_here("mend", path, "superblock", "--yes", expect=4)
        )
        sound = path.read_bytes()
        patch(path, MIB, bytes(2 * MIB))
        self.assertIn(
            "More than the superblock", self.run_here("mend", path, "superblock", "--yes", expect=4)
        )
        path.write_bytes(sound)
        patch(path, MIB + 1024, bytes(1024))
        swap = make_volume(self.folder, "swap")
        patch(swap, 4086, b"S1SUSPEND\0")
        both = disk_of(self.folder, [self.volume(path), swap], "dos", "both.img")[0]
        self.assertIn("hibernated", self.run_here("mend", both, "superblock", "--yes", expect=4))

    @needs("sfdisk", "mke2fs")
    def test_a_wrong_checksum_and_a_damaged_copy_are_told_apart(self):
        path = self.disk()
        sound = path.read_bytes()
        patch(path, MIB + 1024 + 120, b"X")
        self.assertEqual(ids(trace_file(path), "warning"), ["superblock-checksum"])
        path.write_bytes(sound)
        patch(path, MIB + 8193 * 1024, bytes(1024))
        self.assertEqual(ids(trace_file(path), "warning"), ["superblock-copy-damaged"])


class Fats(InFolder):
    def disk(self, bits):
        kind = f"fat{bits}"
        volume = make_volume(self.folder, kind, f"{kind}.volume")
        tool("mmd", "-i", volume, "::TICKETS", "::TIMES")
        for number in range(6):
            file = self.folder / "file"
            file.write_bytes(bytes([number]) * (3000 + 700 * number))
            tool("mcopy", "-i", volume, file, f"::TICKETS/prices of pier {number}.txt")
            tool("mcopy", "-o", "-i", volume, file, f"::TIMES/F{number}.TXT")
        head = volume.read_bytes()[:SECTOR]
        reserved, short, long = (
            struct.unpack_from("<H", head, 14)[0],
            *struct.unpack("<22xH12xI", head[:40]),
        )
        return disk_of(self.folder, [volume])[0], reserved * SECTOR, (short or long) * SECTOR

    @needs("sfdisk", "mkfs.fat", "mcopy", "mmd")
    def test_the_sound_fat_is_known_by_the_files_wherever_it_lies(self):
        for bits in (12, 16, 32):
            path, first, length = self.disk(bits)
            sound = path.read_bytes()
            self.assertNotIn("fats-differ", ids(trace_file(path)))
            for name, at, data in (
                ("second", first + length, bytes(length)),
                ("first", first, bytes(length)),
                ("second", first + length + 20, bytes(10)),
                ("first", first + 20, bytes(10)),
                ("first", first + 14, b"\x11\x22\x33"),
                ("second", first + length + 900, b"\xff\xff\xff\x0f"),
            ):
                with self.subTest((bits, name, at)):
                    path.write_bytes(sound)
                    patch(path, MIB + at, data)
                    found = next(
                        finding
                        for finding in trace_file(path).findings
                        if finding.id == "fats-differ"
                    )
                    self.assertIn(
                        "the first is sound" if name == "second" else "the second is sound",
                        found.says,
                    )
                    self.json_here("mend", path, "fat-mirror", "--yes")
                    self.assertTrue(path.read_bytes() == sound)

    @needs("sfdisk", "mkfs.fat", "mcopy", "mmd")
    def test_with_both_damaged_nothing_is_written(self):
        path, first, length = self.disk(16)
        patch(path, MIB + first + 40, bytes(20))
        patch(path, MIB + first + length + 60, bytes(20))
        before = sha(path)
        self.assertIn(
            "cannot be told", self.run_here("mend", path, "fat-mirror", "--yes", expect=4)
        )
        self.assertEqual(sha(path), before)
        self.assertEqual(
            next(
                finding for finding in trace_file(path).findings if finding.id == "fats-differ"
            ).repairs,
            (),
        )

    @needs("sfdisk", "mkfs.fat", "mcopy", "mmd")
    def test_our_reader_sees_the_names_and_bytes_that_other_programs_put_there(self):
        for bits in (12, 16, 32):
            path, _, _ = self.disk(bits)
            with open_source(str(path)) as source:
                volume = survey(source).volumes[0]
                files = open_files(source, volume)
                found = files.find("tickets/PRICES OF PIER 4.TXT")
                self.assertEqual((found.path, found.bytes), ("/TICKETS/prices of pier 4.txt", 5800))
                self.assertEqual(files.read(found), b"\4" * 5800)
                self.assertEqual(files.read(files.find("TIMES/F2.TXT")), b"\2" * 4400)
                self.assertIsNone(files.find("TIMES/F2.TXT/x"))
                self.assertEqual(read_contents(source, volume).role, "data")


class FileTable(InFolder):
    @needs("sfdisk", "mkfs.ntfs")
    def test_damage_of_the_table_and_of_its_mirror_is_told_apart(self):
        volume = make_volume(self.folder, "ntfs")
        path = disk_of(self.folder, [volume], "dos")[0]
        sound = path.read_bytes()
        head = sound[MIB : MIB + SECTOR]
        table, mirror = (MIB + cluster * 4096 for cluster in struct.unpack_from("<QQ", head, 48))
        for at, data, finding in (
            (table, b"BAAD", "file-table-damaged"),
            (table + 510, b"\x77", "file-table-damaged"),
            (mirror + 1024, bytes(1024), "file-table-mirror-damaged"),
            (mirror + 60, b"\x11", "file-table-mirror-differs"),
        ):
            path.write_bytes(sound)
            patch(path, at, data)
            trace = trace_file(path)
            self.assertIn(finding, ids(trace, "warning"))
            self.assertEqual(trace.volumes[0].label, "HOLM")


if __name__ == "__main__":
    unittest.main()
