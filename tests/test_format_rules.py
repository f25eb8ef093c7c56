"""Rules of the readers on their own, one small structure at a time: which bytes of it count, what
is told of damage and where, and what is no structure at all.
"""

import importlib
import io
import lzma
import pkgutil
import struct
import unittest
from types import SimpleNamespace

import msgspec

import mending.formats
from mending.formats import (
    arrays,
    btrfs,
    bzimage,
    elf,
    event_log,
    exfat,
    ext,
    fat,
    firmware,
    fve,
    grub,
    histories,
    journal,
    kernel_text,
    mbr,
    ntfs,
    pe,
    volume_heads,
)
from mending.formats import dumps as dump_header
from mending.formats import xfs as xfs
from mending.formats.journal import read_export, read_json
from mending.model import FilesystemKind, InputError, Window
from mending.model.data import Layout
from mending.repair.boot import own_code
from mending.workshop import bios_disk
from tests.support import InFolder

FAT12, FAT16, FAT32 = FilesystemKind.FAT12, FilesystemKind.FAT16, FilesystemKind.FAT32


def codes(reading):
    return [problem.code for problem in reading.problems]


class Layouts(unittest.TestCase):
    def test_no_two_fields_of_a_structure_share_a_byte_and_all_lie_in_it(self):
        named = pkgutil.walk_packages(mending.formats.__path__, "mending.formats.")
        modules = [importlib.import_module(module.name) for module in named]
        held = {id(each): each for module in modules for each in vars(module).values()}
        layouts = [each for each in held.values() if isinstance(each, Layout)]
        self.assertGreater(len(layouts), 15)
        for layout in layouts:
            end = 0
            for row in sorted(layout.rows.values(), key=lambda row: row.offset):
                with self.subTest(layout.record.__name__, field=row.name):
                    self.assertGreaterEqual(row.offset, end)
                end = row.offset + row.width
            self.assertLessEqual(end, layout.size)


class BootSectors(InFolder):
    def setUp(self):
        super().setUp()
        path = self.folder / "disk.img"
        bios_disk(own_code()).save(path)
        with path.open("rb") as file:
            self.disk = file.read(4 << 20)

    def volume_bytes(self):
        at = mbr.read(Window(self.disk[:512])).record.entries[0].first_lba * 512
        return self.disk[at : at + 512]

    def volume(self, **fields):
        sector = bytearray(self.volume_bytes())
        for place, value in fields.items():
            sector[int(place[1:])] = value
        return fat.read(Window(bytes(sector)))

    def test_media_bytes(self):
        for value, wrong in ((0xF0, False), (0xF8, False), (0xFF, False), (0xF4, True), (0, True)):
            with self.subTest(value):
                self.assertEqual("media-byte" in codes(self.volume(_21=value)), wrong)

    def test_clusters_of_ntfs_are_powers_of_two(self):
        sector = bytearray(512)
        for raw, sectors in ((8, 8), (6, 0), (0xF4, 4096), (0x80, 0)):
            sector[13] = raw
            volume = ntfs.NtfsVolume(0, ntfs.BOOT_SECTOR.read(Window(bytes(sector))))
            with self.subTest(raw):
                wanted = 128 if raw == 0x80 else sectors
                self.assertEqual(volume.cluster_sectors, wanted)

    def test_all_that_fat_keeps_there_is_zero_in_exfat(self):
        sector = bytearray(512)
        sector[63] = 1
        sector[3:11] = b"EXFAT   "
        record = exfat.read(Window(bytes(sector))).record
        self.assertTrue(any(record.fields.zero))
        self.assertIn("not-zero", codes(exfat.read(Window(bytes(sector)))))

    def test_a_disc_is_known_by_the_second_byte_of_its_first_descriptor(self):
        disc = bytearray(40_960)
        disc[32_769:32_774] = b"CD001"
        found = volume_heads.recognise(Window(bytes(disc)))
        self.assertIs(found.filesystem, FilesystemKind.ISO9660)
        disc[32_768:32_774] = b"CD001\0"
        self.assertIsNone(volume_heads.recognise(Window(bytes(disc))))

    def test_a_fat_boot_sector_begins_with_one_of_two_jumps(self):
        sector = bytearray(self.volume_bytes())
        for jump, wanted in (
            (b"\xeb\x3c\x90", True),
            (b"\xe9\x00\x00", True),
            (b"\xe9\x90\x01", True),
            (b"\xeb\x3c\x00", False),
            (b"\x90\xe9\x90", False),
        ):
            sector[:3] = jump
            self.assertIs(fat.looks_like(Window(bytes(sector))), wanted, jump.hex())

    def test_copies_of_a_superblock_end_with_the_last_group(self):
        for blocks, wanted in ((3 * 8192 + 1, [1, 2]), (3 * 8192 + 2, [1, 2, 3]), (1, [])):
            block = SimpleNamespace(
                blocks=blocks,
                first_data_block=1,
                blocks_per_group=8192,
                block_size=1024,
                compatible=0,
                read_only=0,
            )
            places = [(group * 8192 + 1) * 1024 for group in wanted]
            self.assertEqual(list(ext.copies(block)), places)

    def test_places_as_cylinder_head_and_sector(self):
        places = {0: (0, 1, 0), 62: (0, 63, 0), 63: (1, 1, 0), 16_065: (0, 1, 1)}
        for lba, wanted in places.items():
            self.assertEqual(tuple(mbr.chs(lba)), wanted, lba)
        self.assertEqual(mbr.chs(16_065 * 1024), b"\xfe\xff\xff")


class FatFolders(unittest.TestCase):
    def row(self, name=b"TICKETS TXT", kind=0x20):
        return fat.new_row(name, kind, 0x0003_0007, 1234)

    def test_a_new_row_is_read_as_it_was_meant(self):
        raw = self.row()
        self.assertEqual(len(raw), 32)
        self.assertEqual(raw[12:16], bytes(4))  # no case, no tenths, no time of making
        self.assertEqual(raw[22:24], bytes(2))
        (entry,) = fat.rows(raw, FAT32)
        read = (entry.name, entry.short, entry.folder, entry.cluster, entry.bytes, entry.rows)
        self.assertEqual(read, ("TICKETS.TXT", "TICKETS.TXT", False, 0x0003_0007, 1234, 0))
        (entry,) = fat.rows(raw, FAT16)
        self.assertEqual(entry.cluster, 7)

    def test_dots_labels_and_freed_rows_are_no_files(self):
        dots = self.row(b".          ", 0x10) + self.row(b"..         ", 0x10)
        others = self.row(b"\xe5ONE    TXT") + self.row(b"QUAY       ", 0x08)
        (entry,) = fat.rows(dots + others + self.row(b"LAST    TXT"), FAT16)
        self.assertEqual((entry.name, entry.at), ("LAST.TXT", 4 * 32))
        self.assertEqual(fat.volume_label(dots + others), "QUAY")
        self.assertEqual(fat.volume_label(self.row(kind=0x28)), "")
        self.assertEqual(fat.volume_label(self.row(b"\xe5UAY       ", 0x08)), "")

    def test_a_short_name_is_the_name_only_where_nothing_is_lost(self):
        for name, wanted in (
            ("FARES.TXT", b"FARES   TXT"),
            ("fares.txt", b"FARES~1 TXT"),
            ("FARE LIST.TXT", b"FARELI~1TXT"),
            ("TIMETABLES", b"TIMETA~1   "),
        ):
            self.assertEqual(fat.short_name(name, set()), wanted, name)
        self.assertEqual(fat.short_name("FARES.TXT", {"FARES.TXT"}), b"FARES~1 TXT")

    def test_entries_of_twelve_bits_share_a_byte(self):
        self.assertEqual(list(fat.entries(b"\x34\xf2\xab", FAT12)), [0x234, 0xABF])
        self.assertEqual(fat.entry_at(b"\x34\xf2\xab", 1, FAT12), 0xABF)

    def test_how_a_volume_was_left_is_in_its_second_entry(self):
        for kind, bit in ((FAT16, 0x8000), (FAT32, 0x0800_0000)):
            self.assertIs(fat.closed_properly([0, bit], kind), True)
            self.assertIs(fat.closed_properly([0, bit - 1], kind), False)
            self.assertIsNone(fat.closed_properly([0], kind))
        self.assertIsNone(fat.closed_properly([0, 0xFFF], FAT12))


class NtfsRecords(unittest.TestCase):
    def test_names_of_listed_attributes(self):
        name = "roads".encode("utf-16-le")
        row = struct.pack("<IHBBQQH", 0x80, 40, 5, 26, 0, 77, 0)[:26] + name
        (listed,) = ntfs.listed_attributes(row.ljust(40, b"\0"))
        self.assertEqual((listed.type, listed.name, listed.reference), (0x80, "roads", 77))

    def test_whether_a_link_counts_from_its_folder(self):
        target = "..\\quay".encode("utf-16-le")
        for flags, relative in ((0, False), (1, True), (2, False), (3, True)):
            head = struct.pack("<IHHHHHHI", ntfs.SYMBOLIC_LINK, 0, 0, 0, len(target), 0, 0, flags)
            link = ntfs.reparse(head + target)
            self.assertEqual((link.target, link.is_relative), ("..\\quay", relative), flags)

    def test_the_last_attribute_may_end_where_the_record_does(self):
        body = struct.pack("<IIBBHHHIHH", 0x10, 24, 0, 0, 0, 0, 0, 0, 24, 0)
        (found,) = ntfs._attributes(body, 0)
        self.assertEqual((found.type, found.value), (0x10, b""))


class Trees(unittest.TestCase):
    def test_a_child_of_extents_may_lie_behind_the_first_four_billion_blocks(self):
        row = struct.pack("<IIHH", 9, 5, 2, 0)
        self.assertEqual(ext._child(row), (9, (2 << 32) + 5))

    def test_rows_of_the_root_of_an_xfs_tree_fill_what_is_left_of_the_inode(self):
        rows = b"".join(struct.pack(">Q", number) for number in (1, 2, 3, 4))
        fork = struct.pack(">HH", 1, 2) + rows
        self.assertEqual(xfs.root_node(fork).children, (3, 4))
        with self.assertRaises(InputError):
            xfs.root_node(b"\0\1\0")

    def test_where_a_wrong_checksum_of_an_inode_stands(self):
        data = b"IN" + struct.pack(">HBB", 0o100644, 3, 2) + bytes(506)
        (problem,) = xfs.read_inode(Window(data, 4096), 7, True).problems
        told = (problem.code, problem.offset, problem.length)
        self.assertEqual(told, ("inode-checksum", 4096 + 100, 4))

    def test_free_space_of_a_pool(self):
        block = bytearray(4096)
        block[64:72] = btrfs.MAGIC
        struct.pack_into("<QQ", block, 112, 1000, 300)
        struct.pack_into("<QII", block, 136, 1, 4096, 16_384)
        self.assertEqual(btrfs.read_superblock(bytes(block)).free, 700)

    def test_every_kind_of_repetition_in_a_packed_segment(self):
        first = bytes(range(100, 200))
        start = bytes([0, 100 - 18]) + first  # a run of a hundred plain bytes
        end = bytes([17, 0, 0])
        for code, copied in (
            (bytes([0x80 | 3 << 2, 0]), first[-4:][:4]),  # five from four before the end
            (bytes([32 | 4, (100 - 1) << 2 & 0xFF, (100 - 1) >> 6]), first[:6]),
        ):
            made = btrfs.unpack_lzo(start + code + end, 1000)
            self.assertEqual(made[:100], first)
            distance = 4 if code[0] & 0x80 else 100
            count = 5 if code[0] & 0x80 else 6
            wanted = bytes(made[100 - distance + at] for at in range(count))
            self.assertEqual(made[100:], wanted, code.hex())
            self.assertTrue(wanted.startswith(copied[:4]))

    def test_a_packed_segment_makes_no_more_than_it_may(self):
        plain = b"ferry " * 40
        packed = bytes([17 + 6]) + b"ferry " + bytes([0x20, 234 - 33, 5 << 2, 0, 17, 0, 0])
        self.assertEqual(btrfs.unpack_lzo(packed, len(plain)), plain)
        with self.assertRaises(InputError):
            btrfs.unpack_lzo(packed, len(plain) - 1)


class Programs(unittest.TestCase):
    def test_damage_is_told_where_it_is(self):
        (problem,) = elf.read(Window(b"not a program".ljust(64), 512)).problems
        self.assertEqual((problem.code, problem.offset, problem.length), ("no-header", 512, 4))
        head = bytearray(elf.MAGIC.ljust(128, b"\0"))
        head[4] = 2
        struct.pack_into("<Q", head, 32, 64)
        struct.pack_into("<HH", head, 54, 56, 1)
        struct.pack_into("<IIQ", head, 64, 3, 0, 640)  # the path would be behind the end
        (problem,) = elf.read(Window(bytes(head), 512)).problems
        self.assertEqual((problem.code, problem.offset), ("interpreter-outside", 512 + 640))

    def test_the_first_instruction_lies_in_a_section_and_is_something(self):
        section = SimpleNamespace(
            address=0x1000, memory_size=0x80, file_size=0x200, file_offset=0x400
        )
        data = bytearray(0x700)
        data[0x420:0x430] = b"\x55" * 16
        for entry, wanted in (
            (0x1020, []),
            (0x1000, ["entry-blank"]),
            (0x1100, ["entry-blank"]),
            (0x1200, ["entry-outside"]),
            (0xFFF, ["entry-outside"]),
        ):
            optional = SimpleNamespace(entry=entry, subsystem=10)
            problems = pe._entry_problem(Window(bytes(data)), optional, (section,), 0)
            self.assertEqual([problem.code for problem in problems], wanted, hex(entry))

    def test_a_kernel_of_another_machine_is_named(self):
        window = Window(b"\x7fELF".ljust(2048, b"\1"))
        reading = bzimage.read(window, len(window))
        found = reading.problems[0].found
        self.assertIn("the head of", found)
        short = bzimage.read(Window(b"\x7fELF"), 4)
        self.assertEqual(msgspec.structs.astuple(short.record)[1:], (0, ""))
        (problem, *_) = bzimage.read(Window(b"quay".ljust(2048, b"\1")), 2048).problems
        self.assertIn("71 75 61 79", problem.found)


class KeyFiles(unittest.TestCase):
    IDENTIFIER = bytes(range(16))

    def entry(self, kind, data, use=0):
        return struct.pack("<HHHH", 8 + len(data), use, kind, 1) + data

    def file(self, *entries):
        body = b"".join(entries)
        head = struct.pack("<IIII16sIIQ", 48 + len(body), 1, 48, 0, bytes(16), 0, 0, 0)
        return head + body

    def test_identifier_and_key(self):
        key = self.entry(fve.KEY, bytes(4) + b"k" * 32)
        text = self.entry(fve.TEXT, b"q" * 40)
        short = self.entry(fve.KEY, bytes(4) + b"k" * 31)
        outer = self.IDENTIFIER + bytes(8)
        named = "03020100-0504-0706-0809-0a0b0c0d0e0f"
        for inside, wanted in (
            (key, (named, b"k" * 32)),
            (text + key, (named, b"k" * 32)),
            (text, None),
            (short, None),
            (b"", None),
        ):
            found = fve.read_key_file(self.file(self.entry(fve.EXTERNAL, outer + inside)))
            self.assertEqual(found, wanted)
        self.assertIsNone(fve.read_key_file(self.file(key)))
        self.assertIsNone(
            fve.read_key_file(self.file(self.entry(fve.EXTERNAL, outer + key)) + b"x")
        )


class Firmware(unittest.TestCase):
    def option(self, signature, kind, before=b""):
        drive = struct.pack("<BBHIQQ16sBB", 4, 1, 42, 2, 2048, 4096, signature, 2, kind)
        path = before + drive + bytes((0x7F, 0xFF, 4, 0))
        name = "quay".encode("utf-16-le") + bytes(2)
        return firmware.read_load_option(struct.pack("<IH", 1, len(path)) + name + path).record

    def test_what_names_a_partition(self):
        guid = bytes(range(16))
        self.assertEqual(
            self.option(guid, 2).drive.partition, "03020100-0504-0706-0809-0a0b0c0d0e0f"
        )
        self.assertEqual(self.option(guid, 1).drive.partition, "03020100-02")
        self.assertEqual([self.option(guid, kind).drive.partition for kind in (0, 3)], ["", ""])

    def test_only_an_end_ends_a_path(self):
        other = struct.pack("<BBH", 0xFF, 0xFF, 4)
        self.assertEqual(self.option(bytes(16), 0, before=other).drive.start, 2048)


class Groups(unittest.TestCase):
    def head(self, offset, length):
        head = bytearray(512)
        head[4:20] = arrays._AREA_MAGIC
        struct.pack_into("<QQ", head, 40, offset, length)
        return Window(bytes(head))

    def test_where_the_newest_description_lies(self):
        area = arrays.Area(4096, 2048)
        self.assertEqual(arrays.text_parts(self.head(512, 100), area), (arrays.Area(4608, 100),))
        round_the_end = (arrays.Area(4096 + 2000, 48), arrays.Area(4096 + 512, 52))
        self.assertEqual(arrays.text_parts(self.head(2000, 100), area), round_the_end)
        for offset, length in ((511, 100), (2048, 100), (512, 0), (512, 2048), (0, 0)):
            self.assertEqual(
                arrays.text_parts(self.head(offset, length), area), (), (offset, length)
            )

    def segment(self, kind, stripes):
        text = (
            'vg { id = "a-b" extent_size = 8192 logical_volumes { root { segment1 {'
            f' start_extent = 0 extent_count = 9 type = "{kind}" stripes = [{stripes}] }} }} }} }}'
        )
        (segment,) = arrays.read_group(text.encode()).volumes[0].segments
        return segment

    def test_only_plain_stripes_that_are_named_can_be_read(self):
        self.assertTrue(self.segment("striped", '"pv0", 7').is_plain)
        self.assertFalse(self.segment("striped", "").is_plain)
        self.assertFalse(self.segment("thin", '"pv0", 7').is_plain)


class Journals(unittest.TestCase):
    def test_a_header_that_is_cut_off_is_none(self):
        self.assertIsNone(journal.read_header(journal.MAGIC))
        self.assertIsNone(journal.read_header(bytes(journal.HEAD_BYTES)))

    def test_packed_values(self):
        plain = b"MESSAGE=" + b"the quay is closed " * 20
        self.assertEqual(journal._unpacked(lzma.compress(plain), journal._XZ), plain)
        self.assertEqual(journal._unpacked(b"no archive", journal._XZ), b"")

    def test_entries_of_an_export_are_counted_from_one(self):
        log = b"__REALTIME_TIMESTAMP=5\nMESSAGE=a\n\n\nMESSAGE=b\n\nMESSAGE=c\n"
        self.assertEqual([each.line for each in read_export(io.BytesIO(log))], [1, 2, 3])

    def test_entries_as_json_are_counted_from_one(self):
        lines = b'{"__REALTIME_TIMESTAMP": "5", "MESSAGE": "a"}\nno JSON\n{"MESSAGE": "b"}\n'
        self.assertEqual([each.line for each in read_json(io.BytesIO(lines))], [1, 2])


class Records(unittest.TestCase):
    def test_numbers_of_events_are_numbers(self):
        for identity, wanted in (("41", 41), (" 41 ", 41), ("abc", None), ("", None), ("²", None)):
            record = event_log._record("by", identity, "", "words", {}, 1)
            self.assertEqual(record.number, wanted, identity)
        for code, wanted in (("41", 41), ("1234567890", None), ("12345678901", None), ("", None)):
            rows = [
                {"Time": "2026-05-01 10:00:00", "Source": "quay", "Event ID": code, "Text": "x"}
            ]
            for record in event_log.records(rows):
                self.assertEqual(record.number, wanted, code)

    def test_words_of_an_event_are_its_own_else_its_values(self):
        for words, wanted in (("the quay", "the quay"), ("", "north south")):
            values = {"a": "north", "b": "south"}
            self.assertEqual(event_log._record("", "1", "", words, values, 1).text, wanted)

    def test_events_as_xml_are_taken_when_they_end(self):
        event = "<Event><System><EventID>41</EventID></System></Event>"
        log = io.BytesIO(f"<Events>{event}{event}</Events>".encode())
        told = [(record.number, record.line) for record in event_log.read_xml(log)]
        self.assertEqual(told, [(41, 1), (41, 2)])

    def test_lines_with_a_time_since_the_start_are_the_kernels(self):
        for raw, by in ((b"[    1.250000] quay: ready", "kernel"), (b"quay: ready", "")):
            line = kernel_text.read_line(raw, 3)
            self.assertEqual((line.record.by, line.record.line), (by, 3))

    def test_a_record_says_its_length_twice(self):
        body = bytearray(event_log._LEAST + 8)
        struct.pack_into("<II", body, 0, len(body), 0x654C664C)
        data = bytearray(event_log.OLDER_HEADER_BYTES) + body
        at = event_log.OLDER_HEADER_BYTES
        for kept, found in ((len(body), True), (len(body) - 1, False), (len(body) + 1, False)):
            struct.pack_into("<I", data, len(data) - 4, kept)
            record = event_log._older_event_log_record(bytes(data), at)
            self.assertEqual(record is not None, found, kept)

    def test_sections_of_a_set_up_log_begin_at_the_line_of_their_title(self):
        section = (
            ">>>  [Device Install - QUAY]\r\n>>>  Section start 2026/05/01 10:00:00.123\r\n"
            "     words\r\n<<<  Section end 2026/05/01 10:00:01.000\r\n"
            "<<<  [Exit status: SUCCESS]\r\n"
        )
        log = io.BytesIO((section * 2).encode())
        self.assertEqual([each.line for each in histories.read_setup_log(log)], [1, 6])

    def test_a_text_ends_at_its_zero_or_where_the_record_does(self):
        body = "quay".encode("utf-16-le")
        self.assertEqual(event_log._words(body + bytes(2) + b"more", 0), ("quay", len(body) + 2))
        self.assertEqual(event_log._words(body, 0), ("quay", len(body) + 2))
        self.assertEqual(event_log._words(body + b"x", 0), ("quay", len(body) + 2))

    def test_a_bank_without_an_error_says_nothing(self):
        self.assertEqual(kernel_text.state_says(1 << 61 | 0x0005), "")
        told = kernel_text.state_says(1 << 63 | 1 << 61 | 0x0005)
        self.assertEqual(told, "wrong parity inside the processor; not put right")

    def test_only_lines_of_the_hardware_are_its_words(self):
        lines = [
            b"Kernel panic - not syncing: Fatal exception",
            b"CPU: 2 PID: 1 Comm: systemd Not tainted 6.1.0 #1",
            b"a list: Bank 5: be00000000800400 in another line",
        ]
        (crash,) = kernel_text.read_crashes(enumerate(lines, 1))
        self.assertEqual(crash.hardware, ())

    def test_a_driver_is_called_what_stands_before_the_first_zero(self):
        shape = dump_header.WIDE
        name = "\\Driver\\quay.sys\0rest".encode("utf-16-le")
        pool = struct.pack("<I", len(name) // 2) + name
        row = struct.pack("<I", 0).ljust(shape.row, b"\0")
        driver = dump_header._driver(row, lambda at, length: pool[at : at + length], shape)
        self.assertEqual(driver.name, "quay.sys")


class Menus(unittest.TestCase):
    def words(self, text):
        found, quoted = grub._words(text)
        return [
            [piece for _, piece in word.pieces] for word in found if isinstance(word, grub.Word)
        ], quoted

    def test_variables_are_words_in_single_quotes_only(self):
        found, _ = grub._words("echo $a \"$b\" '$c'")
        named = [
            (piece, variable)
            for word in found
            if isinstance(word, grub.Word)
            for variable, piece in word.pieces
        ]
        self.assertEqual([piece for piece, variable in named if variable], ["a", "b"])
        self.assertIn(("$c", False), [("".join(p for p, _ in named[-2:]), named[-1][1])])

    def test_the_line_of_a_quote_that_does_not_end(self):
        self.assertEqual(grub._words("a\nb 'c\nd")[1], 2)
        self.assertIsNone(grub._words("a 'b'\n")[1])


if __name__ == "__main__":
    unittest.main()
