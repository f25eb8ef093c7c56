"""Rules of repairs on their own: which bytes differ, which copy, entry or moment is chosen, what is
refused. Where a rule asks the disk, a small one made for the question answers.
"""

import struct
import unittest
from pathlib import Path
from types import SimpleNamespace
from unittest.mock import patch

from mending.boot.chain import OutOfReachError
from mending.boot.linux import KernelWithInitramfs
from mending.disk.hives import Hive
from mending.disk.layout import Scheme, identifier_ranges
from mending.formats import boot_store, gpt, hives, pe
from mending.model import FilesystemKind, InputError, Patch, Phase, ReadError, RefusedError, Window
from mending.model.data import nt_ticks
from mending.repair import healthy as healthy_parts
from mending.repair import partition, run, volume
from mending.repair.boot import linux_start, own_code
from mending.repair.files import placing
from mending.repair.healthy import _Gatherer, collect, read_as_kept
from mending.repair.nt import changing, services, store_entries, system_files, whole_hives
from mending.repair.nt.services import _more
from mending.source import fault_of, identity_of
from mending.workshop import bios_disk, linux_disk, uefi_disk
from mending.workshop.nt import ARM64, X64, hive_bytes, nt_uefi_disk, program_bytes
from tests.test_repair_edges import NOTHING, examine, memory, uefi

SECTOR = 512


class Differences(unittest.TestCase):
    def test_of_two_contents_whole_blocks_that_touch_are_one(self):
        before = bytes(5 * SECTOR)
        after = bytearray(before)
        for at in (SECTOR + 3, 2 * SECTOR, 4 * SECTOR + 511):
            after[at] = 1
        self.assertEqual(
            changing.differing(before, bytes(after)),
            [(SECTOR, 2 * SECTOR), (4 * SECTOR, SECTOR)],
        )
        longer = bytes(after) + b"x" * 100
        self.assertEqual(changing.differing(before, longer)[-1], (4 * SECTOR, SECTOR + 100))

    def test_each_stretch_of_a_fat_that_differs_is_a_patch_of_just_its_bytes(self):
        near = volume._NEAR
        good = bytearray(6 * near)
        bad = bytearray(good)
        bad[5] = bad[near + 7] = 1  # two blocks beside each other
        bad[4 * near + 9] = 1
        copies = [SimpleNamespace(data=bytes(data), number=1, offset=7000) for data in (good, bad)]
        patches = volume._patches(SimpleNamespace(number=3), *copies)
        self.assertEqual(
            [(each.offset, each.before, each.after) for each in patches],
            [
                (7005, bytes(bad[5 : near + 8]), bytes(near + 3)),
                (7000 + 4 * near + 9, b"\1", b"\0"),
            ],
        )

    def test_a_change_of_a_file_is_cut_where_its_extents_end(self):
        disk = SimpleNamespace(source=SimpleNamespace(read=lambda at, n: Window(b"-" * n, at)))
        where = [(1000, 100), (5000, 50), (9000, 100)]
        patches = placing._patches(
            disk, SimpleNamespace(offset=10_000), where, 90, bytes(range(70)), "a file"
        )
        self.assertEqual(
            [(each.offset, each.after) for each in patches],
            [
                (11_090, bytes(range(10))),
                (15_000, bytes(range(10, 60))),
                (19_000, bytes(range(60, 70))),
            ],
        )


class Tables(unittest.TestCase):
    def header(self, first, last):
        copy = SimpleNamespace(
            header=SimpleNamespace(first_usable_lba=first, last_usable_lba_inclusive=last)
        )
        return SimpleNamespace(
            gpt=SimpleNamespace(primary=copy, backup=SimpleNamespace(header=None)),
            source=SimpleNamespace(bytes_per_sector=SECTOR),
            sectors=10_000,
        )

    def test_the_range_that_a_damaged_header_tells_is_used_where_it_can_be(self):
        for first, last, spans, used in (
            (34, 9966, [(34, 100)], True),
            (33, 9966, [(40, 100)], False),  # in the array
            (34, 9967, [(40, 100)], False),  # in the array at the end
            (34, 9966, [(33, 100)], False),
            (34, 9966, [(9000, 967)], True),
            (34, 9966, [(9000, 968)], False),
            (34, 9966, [(9001, 965)], True),
        ):
            with self.subTest(first=first, last=last, spans=spans):
                found = partition.usable_range(self.header(first, last), spans)
                self.assertEqual(found, (first, last) if used else None)

    def test_an_entry_is_hollow_where_nothing_is_in_it_and_files_were_meant(self):
        def volume(**how):
            usual = {
                "filesystem": FilesystemKind.BLANK,
                "type": "",
                "extended": False,
                "number": 1,
            }
            return SimpleNamespace(**{**usual, **how})

        self.assertTrue(partition._hollow(volume()))
        self.assertTrue(partition._hollow(volume(number=gpt.COUNT)))
        for how in (
            {"number": gpt.COUNT + 1},
            {"extended": True},
            {"filesystem": FilesystemKind.EXT},
        ):
            self.assertFalse(partition._hollow(volume(**how)), how)

    def test_a_lost_table_was_a_gpt_where_one_is_left_or_the_disk_is_made_for_uefi(self):
        def wants(scheme, blank, firmware, *types):
            request = SimpleNamespace(
                disk=SimpleNamespace(
                    scheme=scheme,
                    mbr=SimpleNamespace(record=SimpleNamespace(code_blank=blank)),
                ),
                settings=SimpleNamespace(firmware=firmware),
            )
            with patch.object(partition, "type_guid", lambda _disk, found: found):
                return partition._wants_guids(request, list(types))

        system, data = gpt.EFI_SYSTEM, "data"
        self.assertTrue(wants(Scheme.GPT, False, None, data))
        self.assertTrue(wants(Scheme.NONE, False, "uefi", data))
        self.assertTrue(wants(Scheme.NONE, True, None, data, system))
        for scheme in (Scheme.NONE, Scheme.MBR):
            self.assertFalse(wants(scheme, True, None, data))
            self.assertFalse(wants(scheme, False, None, system))
            self.assertFalse(wants(scheme, True, "bios", system))


class Places(unittest.TestCase):
    def test_the_first_structure_of_a_volume_that_cannot_be_read_is_not_there(self):
        class Deaf:
            def read(self, offset, length):
                raise ReadError("a bad sector", offset, length)

        place = SimpleNamespace(offset=0)
        fat = bytearray(512)
        fat[0:3], fat[510:512] = b"\xeb\x3c\x90", b"\x55\xaa"
        struct.pack_into("<HBHBHHB", fat, 11, 512, 1, 1, 2, 512, 4000, 0xF8)
        self.assertFalse(volume._fits_content(Deaf(), place, Window(bytes(fat))))

    def test_what_a_locked_volume_holds_is_inside_it_and_all_else_is_outside(self):
        def change(offset):
            return Patch(offset, b"", b"", "a range")

        self.assertTrue(run._is_outside(change(0)))
        self.assertTrue(run._is_outside(change(run.FIRST_VIEW - 1)))
        self.assertFalse(run._is_outside(change(run.FIRST_VIEW)))

    def test_nothing_is_known_of_a_disk_of_which_all_was_changed_later(self):
        source = uefi()
        known = identity_of(
            source, [], identifier_ranges(examine(source, NOTHING).environment.disk)
        )
        whole = Patch(0, b"", bytes(source.size), "everything")
        self.assertEqual(
            fault_of(known, source, [whole]),
            ("later repairs changed all that it could be known by", False, False),
        )
        self.assertEqual(fault_of(known, source, []), ("", False, False))


class Volumes:
    """An environment of volumes with files, by number and path; None where it cannot be read."""

    def __init__(self, *volumes):
        self.volumes = [
            SimpleNamespace(number=number, extended=files == "extended", files=files)
            for number, files in enumerate(volumes, 1)
        ]

    def find(self, volume, path):
        if volume.files is None:
            raise OutOfReachError("unreadable")
        data = volume.files.get(path)
        if data is None:
            return None
        return SimpleNamespace(path=path, is_folder=data == "folder", bytes=len(data))


class Kernels(unittest.TestCase):
    MENU = b"menuentry one {\n  linux /vmlinuz-6.1 root=x\n  initrd /initrd.img-6.1\n}\n"

    def menu(self, request, place):
        def whole(_environment, volume, found):
            return volume.files[found.path]

        with patch.object(linux_start, "read_whole", whole):
            return linux_start._menu(request, place)

    def test_the_menu_is_the_file_whose_line_names_a_kernel(self):
        other = self.MENU.replace(b"  linux", b"  echo")
        request = SimpleNamespace(
            environment=Volumes(
                "extended", None, {"/m": "folder"}, {"/m": other}, {"/m": self.MENU}
            )
        )
        place = SimpleNamespace(path="/m", line=2)
        self.assertEqual(self.menu(request, place)[0].number, 5)
        place.line = None
        self.assertEqual(self.menu(request, place)[0].number, 4)
        for line in (1, 50):
            place.line = line
            with self.assertRaises(RefusedError):
                self.menu(request, place)

    def beside(self, *kernels):
        found = [
            KernelWithInitramfs(None, path, version, initrd) for path, initrd, version in kernels
        ]
        return patch.object(linux_start, "kernels_beside", lambda _environment, _part: found)

    def test_the_row_must_name_a_plain_path_beside_a_sound_kernel_of_one_volume(self):
        rows = self.MENU.split(b"\n")
        request = SimpleNamespace(environment=Volumes({}))
        with self.beside(("vmlinuz-6.1", "initrd.img-6.1", "6.1")):
            for line in (2, None):
                self.assertEqual(linux_start._kernel_row(request, rows, line)[0], 1)
            for line in (1, len(rows) + 1, len(rows) + 9):
                with self.assertRaises(RefusedError):
                    linux_start._kernel_row(request, rows, line)
            with self.assertRaises(RefusedError):
                linux_start._kernel_row(SimpleNamespace(environment=Volumes({}, {})), rows, 2)

    def test_the_named_kernel_stays_else_the_first_with_modules_is_taken(self):
        part = SimpleNamespace(path="/boot/vmlinuz-5")
        request = SimpleNamespace(environment=Volumes(None, {"lib/modules/6": "folder"}))
        seven, six = (
            ("boot/vmlinuz-7", "boot/initrd-7", "7"),
            ("boot/vmlinuz-6", "boot/initrd-6", "6"),
        )
        five = ("boot/vmlinuz-5", "boot/initrd-5", "5")
        elsewhere = ("boot/vmlinuz-8", "initrd-8", "8")
        for beside, best in (
            ((seven, six, five), "5"),
            ((seven, six), "6"),
            ((seven,), "7"),
            ((elsewhere, seven), "7"),
        ):
            with self.beside(*beside):
                self.assertEqual(linux_start._best(request, part, set()).version, best)
        with self.beside(elsewhere), self.assertRaises(RefusedError):
            linux_start._best(request, part, set())


class Recoveries(unittest.TestCase):
    RAW = bytes(32) + b"P" * 16 + bytes(8) + b"D" * 16 + "\\boot\\r.wim\0".encode("utf-16-le")

    def holds(self, *volumes):
        def device_of(_request, volume):
            if volume.files == {}:
                raise RefusedError("no device")
            return self.RAW

        request = SimpleNamespace(environment=Volumes(*volumes))
        with patch.object(store_entries, "device_of", device_of):
            return store_entries._holds_image(request, self.RAW)

    def test_an_image_is_a_file_with_bytes_on_a_volume_that_the_device_names(self):
        self.assertTrue(self.holds({"/boot/r.wim": b"image"}))
        self.assertTrue(self.holds({}, {"/boot/r.wim": b"image"}))
        for files in ({"/other": b"image"}, {"/boot/r.wim": b""}, {"/boot/r.wim": "folder"}):
            self.assertFalse(self.holds(files), files)

    def lost(self, objects, *held):
        with patch.object(store_entries, "_holds_image", lambda _request, raw: raw in held):
            return store_entries._lost_image(SimpleNamespace(), objects)

    def test_both_devices_of_every_entry_must_hold_their_image(self):
        def entry(first, second, kind=boot_store.SYSTEM_LOADER):
            elements = {boot_store.DEVICE: first, boot_store.SYSTEM_DEVICE: second}
            return store_entries.StoreObject(kind, elements, is_whole=True)

        self.assertEqual(self.lost({"a": entry(b"1", b"2")}, b"1", b"2"), "")
        for held in ((b"1",), (b"2",), ()):
            self.assertEqual(
                self.lost({"a": entry(b"1", b"2")}, *held), "its image is not on this disk"
            )
        self.assertEqual(self.lost({"a": entry(b"", b"", kind=1)}), "no entry is among it")


class Settings(unittest.TestCase):
    def test_the_newest_moment_from_before_the_failing_began_is_chosen(self):
        def moment(seconds):
            return SimpleNamespace(written=nt_ticks(seconds))

        found = [("new", moment(3000)), ("old", moment(1000))]
        for since, place in (
            ("", 0),
            ("1970-01-01T00:50:01+00:00", 0),
            ("1970-01-01T00:50:00+00:00", 1),
            ("1970-01-01T00:10:00+00:00", 0),
        ):
            with self.subTest(since):
                chosen, says = whole_hives._before(found, since)
                self.assertIs(chosen, found[place][1])
        self.assertIn("none is from before", says)

    def test_more_than_one_program_is_more_and_a_comma_at_the_end_is_none(self):
        for written, more in (("own.exe", 0), ("own.exe,", 0), ("own.exe, other.exe", 1), ("", 0)):
            self.assertEqual(_more(written), bool(more), written)

    def test_a_name_beside_is_one_that_no_value_has(self):
        key = SimpleNamespace(value=lambda name: name in {"Q.aside", "Q.aside2"} or None)
        with patch.object(services, "_ASIDE", "aside"):
            self.assertEqual(services._free(key, "Q"), "Q.aside3")
            self.assertEqual(services._free(key, "R"), "R.aside")
            self.assertEqual(services._free(None, "Q"), "Q.aside")

    def test_a_set_up_is_unfinished_where_either_number_says_so(self):
        for numbers, told in (
            ({"SystemSetupInProgress": 1}, True),
            ({"SetupType": 2}, True),
            ({"SystemSetupInProgress": 0, "SetupType": 0}, False),
            ({}, False),
        ):
            key = SimpleNamespace(number=numbers.get, value=lambda _: None, data=lambda _: None)
            self.assertEqual(bool(services._set_up(None, key)), told, numbers)
        self.assertEqual(services._set_up(None, None), [])

    def test_a_control_set_is_sound_with_services_that_start_and_settings(self):
        def key(**children):
            return SimpleNamespace(child=children.get)

        def hive(chosen):
            return SimpleNamespace(root=SimpleNamespace(child=lambda _name: chosen))

        starting = SimpleNamespace(children=lambda: [SimpleNamespace(number=lambda _: 0)])
        idle = SimpleNamespace(children=lambda: [SimpleNamespace(number=lambda _: 3)])
        self.assertTrue(services._is_sound(hive(key(Services=starting, Control="x")), 1))
        for chosen in (
            None,
            key(Control="x"),
            key(Services=starting),
            key(Services=idle, Control="x"),
        ):
            self.assertFalse(services._is_sound(hive(chosen), 1))

    def chosen(self, name, **starts):
        known = {
            each: SimpleNamespace(name=each, start=start, is_driver=True, group="SCSI miniport")
            for each, start in starts.items()
        }
        request = SimpleNamespace(settings=SimpleNamespace(driver=name))
        with (
            patch.object(services, "drivers_of", lambda _settings: known),
            patch.object(services, "_is_storage", lambda driver: driver.name != "beeper"),
        ):
            return services._chosen(request, None).name

    def test_the_one_storage_driver_that_does_not_start_is_chosen_or_the_named_one(self):
        self.assertEqual(self.chosen("", quay=0, pier=3), "pier")
        self.assertEqual(self.chosen("PIER", quay=3, pier=3), "pier")
        for name, starts in (
            ("", {"quay": 0}),
            ("", {"quay": 3, "pier": 3}),
            ("lost", {"quay": 3}),
            ("beeper", {"beeper": 3}),
            ("quay", {"quay": 0}),
        ):
            with self.subTest(name, **starts), self.assertRaises(RefusedError):
                self.chosen(name, **starts)


class Hives(unittest.TestCase):
    SOUND = hive_bytes({"Select": {"Current": 1}}, 0)

    def test_a_base_block_made_anew_tells_what_bins_and_logs_tell(self):
        sound = self.SOUND
        kept = hives.read(Window(sound[:4096])).record
        made = whole_hives.rebuilt(bytes(4096) + sound[4096:], [])
        base = hives.read(Window(made[:4096]))
        self.assertEqual(base.problems, ())
        self.assertEqual((base.record.root, base.record.bins), (kept.root, kept.bins))
        self.assertEqual((base.record.major, base.record.minor), (1, 5))
        self.assertEqual((base.record.first, base.record.second), (1, 1))
        self.assertEqual(struct.unpack_from("<III", made, 28), (0, 1, kept.root))
        self.assertEqual(struct.unpack_from("<I", made, 44), (1,))
        self.assertEqual(made[4096:], sound[4096:])
        self.assertIsNotNone(Hive(made).find("Select"))

    def test_a_version_that_no_system_wrote_is_not_kept(self):
        for minor, kept in ((2, 5), (3, 3), (6, 6), (7, 5)):
            data = bytearray(self.SOUND)
            struct.pack_into("<I", data, 24, minor)
            made = whole_hives.rebuilt(bytes(data), [])
            self.assertEqual(hives.read(Window(made[:4096])).record.minor, kept, minor)

    def test_bins_that_are_not_there_are_told_by_a_log(self):
        sound = self.SOUND
        longer = bytearray(sound[:512])
        struct.pack_into("<I", longer, 40, len(sound))
        longer[508:512] = hives.checksum(bytes(longer)).to_bytes(4, "little")
        with self.assertRaises(InputError):
            whole_hives.rebuilt(bytes(4096) + sound[4096:], [bytes(longer)])


class Systems(unittest.TestCase):
    def test_the_root_is_the_one_volume_with_a_system_of_the_family(self):
        def holding(*families):
            return SimpleNamespace(systems=[SimpleNamespace(family=each) for each in families])

        ours = holding("linux")
        for inside, root in (
            ([ours, holding("nt"), holding()], ours),
            ([ours, holding("linux")], None),
            ([holding("nt"), holding("unknown")], None),
        ):
            if root is not None:
                self.assertIs(linux_start._root(inside), root)
            else:
                with self.assertRaises(RefusedError):
                    linux_start._root(inside)

    def test_a_part_whose_content_was_not_kept_is_not_put_back(self):
        kept = SimpleNamespace(path="/boot/kernel", attributes=None)
        copy = SimpleNamespace(index=SimpleNamespace(files=[kept]))
        part = SimpleNamespace(kind="file", number=0)
        volume = SimpleNamespace(number=1)
        for found, data, put in (
            (volume, b"kernel", True),
            (volume, None, False),
            (None, b"kernel", False),
        ):
            given = []

            def take(_request, _volume, files, _says, attributes, given=given):
                given.append((files, dict(attributes)))
                return []

            with (
                patch.object(healthy_parts, "volume_of", lambda _env, _kept, found=found: found),
                patch.object(healthy_parts, "content_of", lambda _copy, _part, data=data: data),
                patch.object(healthy_parts, "put_files", take),
            ):
                list(healthy_parts._file_changes(SimpleNamespace(environment=None), copy, [part]))
            self.assertEqual(given, [({"/boot/kernel": b"kernel"}, {})] if put else [])


class CopiesOfPrograms(unittest.TestCase):
    """Which copy of a program of the nt family is put back."""

    OLD, NEW = (10, 0, 100, 5), (10, 0, 100, 9)

    def needs(self, build=OLD[:3], known=()):
        return SimpleNamespace(
            start=SimpleNamespace(machine=X64),
            catalogues=SimpleNamespace(know=lambda data: data in known),
            build=build,
        )

    def fits(self, data, *, needs=None, present=None, own=False):
        copy = system_files._Copy(data, "somewhere", own=own)
        now = SimpleNamespace(data=present) if present is not None else None
        return system_files._fits(needs or self.needs(), "/ferry/hal.dll", now, copy)

    def test_versions_and_marks_are_those_that_a_program_carries(self):
        data = program_bytes(version=self.OLD)
        self.assertEqual(pe.version(data), self.OLD)
        self.assertIsNone(pe.version(program_bytes()))
        self.assertIsNone(pe.version(data[: data.find(b"V\0S\0_\0") + 20]))
        head = int.from_bytes(data[60:64], "little")
        marks = struct.unpack_from("<I", data, head + 8) + struct.unpack_from("<I", data, head + 80)
        marks += struct.unpack_from("<I", data, head + 88)
        self.assertEqual(pe.build_marks(data), marks)
        blank = data[: head + 88] + bytes(4) + data[head + 92 :]
        for other in (
            blank,
            b"no" + data[2:],
            data[: head + 90],
            data.replace(b"PE\0\0", b"NE\0\0"),
        ):
            self.assertIsNone(pe.build_marks(other))

    def test_a_copy_is_sound_and_of_this_pc_listed_the_same_build_or_of_its_version(self):
        data, plain = program_bytes(version=self.NEW), program_bytes()
        self.assertTrue(self.fits(data))
        self.assertFalse(self.fits(data, needs=self.needs(build=(10, 0, 99))))
        self.assertFalse(self.fits(data, needs=self.needs(build=None)))
        self.assertFalse(self.fits(plain))
        self.assertTrue(self.fits(plain, own=True))
        self.assertTrue(self.fits(plain, needs=self.needs(known=(plain,))))
        self.assertTrue(self.fits(plain, present=plain[:1000]))  # damaged, its header is there
        self.assertFalse(self.fits(plain, present=data))
        cut = data[: len(data) // 2]
        other = program_bytes(version=self.NEW, machine=ARM64)
        for damaged in (cut, other, b"", data[:-1] + b"x"):
            self.assertFalse(self.fits(damaged, own=True))

    def best(self, *copies, present=None):
        made = [system_files._Copy(data, told) for told, data in copies]
        now = SimpleNamespace(data=present) if present is not None else None
        with patch.object(system_files, "_elsewhere", lambda *_: iter(())):
            request, path = SimpleNamespace(), "/ferry/HAL.dll"
            chosen = system_files._best(request, self.needs(), path, now, {"hal.dll": made})
        return chosen.told if chosen is not None else None

    def test_of_those_that_fit_the_newest_is_taken_unless_it_is_there_already(self):
        old, new = program_bytes(version=self.OLD), program_bytes(version=self.NEW)
        self.assertEqual(self.best(("old", old), ("new", new)), "new")
        self.assertEqual(self.best(("new", new), ("old", old), present=old), "new")
        self.assertIsNone(self.best(("old", old), ("new", new), present=new))
        self.assertIsNone(self.best(("cut", new[:700])))
        self.assertIsNone(self.best(("of the store, of no version", program_bytes())))

    def test_a_library_that_was_put_back_answers_the_program_that_wants_it(self):
        wanting = program_bytes(imports={"HAL.dll": ["Sail"]})
        finding = SimpleNamespace(where=SimpleNamespace(path="/ferry/kernel.exe"))
        for program, put, answered in (
            (wanting, {"/ferry/hal.DLL": b""}, True),
            (wanting, {"/ferry/KERNEL.exe": b""}, True),
            (wanting, {"/hal.dll/other.dll": b""}, False),
            (program_bytes(), {"/ferry/hal.dll": b""}, False),
            (None, {"/ferry/hal.dll": b""}, False),
        ):
            read = SimpleNamespace(data=program) if program is not None else None
            with patch.object(system_files, "read_program", lambda *_, read=read: read):
                self.assertEqual(system_files._is_answered(None, finding, put), answered, put)

    def test_a_healthy_copy_is_asked_for_the_path_in_any_case(self):
        files = [
            SimpleNamespace(path="/Ferry/hal.dll", kept=False),
            SimpleNamespace(path="/Ferry/HAL.DLL", kept=True),
            SimpleNamespace(path="/Ferry/zinc.dll", kept=True),
        ]
        healthy = SimpleNamespace(
            index=SimpleNamespace(files=files),
            file_bytes=lambda number: bytes([number]),
            path=Path("healthy.zip"),
        )
        request = SimpleNamespace(settings=SimpleNamespace(healthy=healthy), disk=None)
        for why, own in (("", True), ("another disk", False)):
            with patch.object(system_files, "why_not_of", lambda *_, why=why: why):
                (copy,) = system_files._of_copy(request, "/ferry/hal.dll")
            self.assertEqual((copy.data, copy.told, copy.own), (b"\1", "healthy.zip", own))
        request.settings.healthy = None
        self.assertEqual(list(system_files._of_copy(request, "/ferry/hal.dll")), [])


class Gathered(unittest.TestCase):
    """What a healthy copy takes of a disk."""

    def ranges(self, draft):
        found, _ = collect(examine(memory(draft), NOTHING).environment, [])
        return [(kept.offset, kept.length) for kept, _ in found]

    def files(self, draft):
        _, found = collect(examine(memory(draft), NOTHING).environment, [])
        return {kept.path: (kept.volume, len(data)) for kept, data in found}

    def test_ranges_are_the_table_the_gap_and_the_boot_sectors(self):
        mib, second = 1 << 20, 83_968 * SECTOR
        code = [(0, 440), (440, 72)]
        copies = [(512, 16_896), (100 * mib - 16_896, 16_896)]
        gap = [(17_408, mib - 17_408)]
        for draft, found in (
            (bios_disk(own_code()), [*code, (512, mib - 512), (mib, 512), (second, 512)]),
            (uefi_disk(), [*code, *copies, *gap, (mib, 512), (second, 512)]),
            (linux_disk(), [*code, *copies, *gap, (mib, 512), (second, 1024)]),
            (nt_uefi_disk(), [*code, *copies, *gap, (mib, 512), (second, 8192)]),
        ):
            self.assertEqual(self.ranges(draft), found)

    def test_files_are_those_that_a_start_needs(self):
        linux = self.files(linux_disk())
        for path in ("/etc/fstab", "/usr/sbin/init", "/usr/bin/sh"):
            self.assertEqual(linux[path][0], 2)
        self.assertEqual(linux["/EFI/BOOT/BOOTX64.EFI"][0], 1)
        system = self.files(nt_uefi_disk())
        for path in ("ntoskrnl.exe", "hal.dll", "drivers/quaydisk.sys", "config/SAM", "smss.exe"):
            self.assertEqual(system[f"/ferry/system32/{path}"][0], 2)
        self.assertEqual(system["/EFI/HARBOUR/BOOT/BCD"], (1, 8192))

    def test_of_folders_and_of_files_without_bytes_nothing_is_kept(self):
        for is_folder, size, kept in ((False, 9, True), (True, 4096, False), (False, 0, False)):
            found = SimpleNamespace(is_folder=is_folder, bytes=size, mode=0o644)
            files = SimpleNamespace(
                target_of=lambda _path: None,
                find=lambda _path, found=found: found,
                read=lambda _found, _most: b"content",
            )
            self.assertEqual(read_as_kept(files, "/etc/fstab"), b"content" if kept else None)

    def test_a_tree_is_walked_to_a_certain_depth_and_no_link_is_followed(self):
        def listing(path):
            if path.count("/") > 20:
                self.fail("no end")
            return [
                SimpleNamespace(path=f"{path}/deck", is_folder=True, is_link=False),
                SimpleNamespace(path=f"{path}/link", is_folder=True, is_link=True),
                SimpleNamespace(path=f"{path}/log", is_folder=False, is_link=False),
            ]

        class Tree(_Gatherer):
            def _one(self, _volume, path, *_how):
                yield path

        def find(path):
            return SimpleNamespace(path=path, is_folder=True)

        files = SimpleNamespace(find=find, listing=listing)
        tree = Tree(SimpleNamespace(files=lambda _volume: files), [])
        found = list(tree._tree(SimpleNamespace(number=1), "/boot", lambda _path: Phase.LOADER))
        self.assertEqual(sorted(found), sorted(f"/boot{'/deck' * depth}/log" for depth in range(9)))


if __name__ == "__main__":
    unittest.main()
