"""What repairs of boot files and of settings choose, keep and refuse, each rule on its own: what a
rule asks of a disk is answered by the test.
"""

import contextlib
import unittest
from types import SimpleNamespace
from unittest.mock import patch

from mending.boot.bios import CodeKind
from mending.boot.chain import OutOfReachError
from mending.formats import boot_store
from mending.formats.packages import PackagedFile
from mending.model import FileAttributes, FilesystemKind, FindingId, RefusedError
from mending.repair import journal, volume
from mending.repair.boot import boot_code, boot_entries, linux_start, own_code
from mending.repair.files import placing, restoring
from mending.repair.nt import changing, services, store_entries, system_files
from mending.workshop import BIOS_FAULTS, bios_disk
from tests.support import InFolder, ids, needs, sha, tool, trace_file

NOTHING = SimpleNamespace()


def request_with(*found, **more):
    """A request whose trace found some kinds of faults."""
    return SimpleNamespace(
        found=lambda *ids: tuple(each for each in found if each in ids),
        **{"calling_for": lambda _repair: (), **more},
    )


def broken(folder, fault):
    """A disk of the workshop with a fault."""
    draft = bios_disk(own_code())
    BIOS_FAULTS[fault](draft)
    draft.save(folder / "disk")
    return folder / "disk"


@contextlib.contextmanager
def replaced(module, **functions):
    with contextlib.ExitStack() as stack:
        for name, function in functions.items():
            stack.enter_context(patch.object(module, name, function))
        yield


class Undone(InFolder):
    def test_what_changed_since_it_was_undone_is_not_done_again(self):
        path = broken(self.folder, "no-active-entry")
        told = self.json_here("mend", path, "active-flag", "--yes")
        self.assertEqual(told["proof"][:2], ["read back", "traced again"])
        self.run_here("undo", path)
        with path.open("r+b") as disk:
            disk.seek(0x1BE)
            disk.write(b"\x01")
        before = sha(path)
        said = self.run_here("undo", path, "--redo", expect=4)
        self.assertIn("changed since by something else", said)
        self.assertEqual(sha(path), before)


class Documents(InFolder):
    def test_a_table_made_anew_is_told_beside_the_one_before(self):
        path = broken(self.folder, "no-table")
        told = self.json_here("mend", path, "partition-table", "--yes")
        self.assertIsNotNone(told["map_before"])
        self.assertIsNotNone(told["map_after"])


class Touched(unittest.TestCase):
    def test_only_places_of_the_disk_itself_excuse_that_it_is_otherwise(self):
        later = SimpleNamespace(
            file=SimpleNamespace(
                patches=[
                    SimpleNamespace(path="", offset=512, length=4),
                    SimpleNamespace(path="/etc/fstab", offset=0, length=900),
                ]
            )
        )
        point = SimpleNamespace(file=SimpleNamespace(target="known"))
        with replaced(
            journal,
            _later=lambda *_: [later],
            fault_of=lambda known, _target, changes: (known, changes, False),
        ):
            known, changes = journal.Journal._fault(None, point, None, [])
        self.assertEqual(known, "known")
        self.assertEqual([(each.offset, len(each.before)) for each in changes], [(512, 4)])


class Drives(unittest.TestCase):
    def test_rights_are_put_where_the_file_system_keeps_them(self):
        for kind, has_modes in (
            (FilesystemKind.BTRFS, True),
            (FilesystemKind.XFS, True),
            (FilesystemKind.NTFS, False),
        ):
            given = []

            def puts(_files, _attributes, modes, given=given):
                given.append(modes)

            volume = SimpleNamespace(number=2, filesystem=kind, top=None, bytes=1)
            settings = SimpleNamespace(mount=True)
            with (
                replaced(
                    placing,
                    drivers_of=lambda *_: [("driver",)],
                    _check_left_clean=lambda *_: None,
                    _reads_of=lambda *_: None,
                    _worked_out=lambda *_: [],
                    _puts=puts,
                ),
                self.assertRaisesRegex(RefusedError, "already"),
            ):
                placing.put_by_driver(None, volume, settings, {"/etc/desk": b""}, {})
            self.assertEqual(given, [has_modes])


@needs("mkfs.ext4", "e2fsck")
class Superblocks(InFolder):
    def test_a_copy_in_an_unusual_place_is_found_by_what_the_first_one_still_tells(self):
        volume = self.folder / "volume"
        with volume.open("wb") as file:
            file.truncate(24 << 20)
        tool("mkfs.ext4", "-q", "-F", "-b", "1024", "-g", "2048", volume)
        with volume.open("r+b") as file:
            file.seek(1024 + 0x3FC)
            file.write(b"torn")  # its checksum
        said = self.json_here("mend", volume, "superblock", "--yes")
        self.assertTrue(said["done"])
        self.assertNotIn("superblock", " ".join(ids(trace_file(volume))))
        tool("e2fsck", "-fn", volume)


class Codes(unittest.TestCase):
    def proposed(self, kind, *found, core=None, spare="spare"):
        def refuse(*_):
            raise RefusedError("it works")

        record = SimpleNamespace(fields=SimpleNamespace(code=b"old"))
        disk = SimpleNamespace(source=SimpleNamespace(read=lambda *_: b""))
        with replaced(
            boot_code,
            _guarded=lambda _disk: record,
            recognise_code=lambda _sector: kind,
            find_core=lambda _disk: core,
            spare_core=lambda _disk: spare,
            _with_core=lambda *_: "core",
            _refuse_if_it_works=refuse,
        ):
            return boot_code.propose_boot_code(request_with(*found, disk=disk, settings=None))

    def test_a_core_is_put_back_where_none_is_left_and_no_code_leads_on(self):
        blank, leads_on = CodeKind.BLANK, CodeKind.GRUB
        self.assertIn(blank, boot_code._NO_MANAGER)
        self.assertEqual(self.proposed(blank), "core")
        self.assertEqual(self.proposed(leads_on, FindingId.VOLUME_BOOT_CODE_BLANK), "core")
        for kind, more in ((leads_on, {}), (blank, {"spare": None}), (blank, {"core": "core"})):
            with self.subTest(kind, **more), self.assertRaisesRegex(RefusedError, "it works"):
                self.proposed(kind, **more)


class Menus(unittest.TestCase):
    def home(self, *folders):
        volumes = [
            SimpleNamespace(number=number, extended=folder == "extended", folder=folder)
            for number, folder in enumerate(folders, 1)
        ]

        def find(volume, _path):
            if volume.folder == "unreadable":
                raise OutOfReachError("unreadable")
            kinds = {"folder": True, "file": False}
            kind = kinds.get(volume.folder)
            return None if kind is None else SimpleNamespace(is_folder=kind)

        environment = SimpleNamespace(volumes=volumes, find=find)
        found = boot_entries._menu_home(
            SimpleNamespace(environment=environment), "/boot/grub/grub.cfg"
        )
        return found.number

    def test_a_menu_goes_to_the_one_volume_that_has_its_folder(self):
        self.assertEqual(self.home("extended", "unreadable", "none", "file", "folder"), 5)
        for folders in (("none", "file"), ("folder", "folder"), ()):
            with self.assertRaises(RefusedError):
                self.home(*folders)


class Managers(unittest.TestCase):
    def proposed(self, *kept):
        finding = SimpleNamespace(id=system_files.KINDS[0], where=SimpleNamespace(path="/BOOTMGR"))
        starts = [
            SimpleNamespace(path=lambda path: path, root=f"/ferry{n}", volume=size)
            for n, size in enumerate(kept)
        ]

        def find(size, path):
            return None if size is None else SimpleNamespace(path=path, bytes=size)

        request = SimpleNamespace(
            calling_for=lambda _repair: [finding],
            disk=SimpleNamespace(volumes=[SimpleNamespace(active=True, extended=False, number=1)]),
            environment=SimpleNamespace(find=find),
        )
        with replaced(
            system_files,
            nt_homes=lambda _request: starts,
            read_all=lambda *_: b"manager",
            files_beside=lambda *_: {},
            put_files=lambda _request, _home, files, _says: list(files),
        ):
            return system_files.propose_nt_manager(request).says

    def test_the_first_system_that_keeps_a_copy_with_bytes_gives_it(self):
        self.assertIn("of /ferry2 ", self.proposed(None, 0, 2048))
        with self.assertRaises(RefusedError):
            self.proposed(None, 0)


class Links(unittest.TestCase):
    def test_the_link_to_the_first_program_is_made_where_it_is_asked_for_and_lost(self):
        program = restoring.FIRST_PROGRAMS[0]
        for found, there, made in (
            ((FindingId.INIT_MISSING,), {program}, True),
            ((), {program}, False),
            ((FindingId.INIT_MISSING,), {program, restoring._INIT}, False),
            ((FindingId.INIT_MISSING,), set(), False),
        ):
            files = SimpleNamespace(find=lambda path, there=there: path if path in there else None)
            init = restoring._INIT
            link = PackagedFile(init, 0o777, 0, 0, program.encode(), is_link=True)
            got = restoring._usual_init(request_with(*found), files)
            self.assertEqual(got, {init: link} if made else {})


class Units(unittest.TestCase):
    def test_the_link_that_turns_a_unit_off_belongs_to_nobody_but_root(self):
        given = []
        there = {"usr/lib/systemd/system/desk.service", "/usr/lib/systemd/system/desk.service"}
        files = SimpleNamespace(
            target_of=lambda _path: None, find=lambda path: path if path in there else None
        )
        home = SimpleNamespace(number=2)
        request = request_with(
            settings=SimpleNamespace(unit="desk.service"),
            environment=SimpleNamespace(files=lambda _volume: files),
        )
        with replaced(
            linux_start,
            only_linux_system=lambda _environment: [SimpleNamespace(volume=home)],
            put_files=lambda _request, _home, put, _says, how: given.append((put, how)) or [],
        ):
            linux_start.propose_unit_off(request)
        ((put, how),) = given
        (path,) = put
        self.assertEqual(put, {path: b"/dev/null"})
        self.assertEqual(how[path], FileAttributes(0o777, 0, 0, None, is_link=True))
        self.assertTrue(path.endswith("etc/systemd/system/desk.service"))


class Records(unittest.TestCase):
    def patches(self, *pairs):
        records = [
            tuple(
                SimpleNamespace(sound=sound, stable=data, data=data, offset=offset)
                for offset, (sound, data) in zip((100, 900), pair, strict=True)
            )
            for pair in pairs
        ]
        with replaced(volume, file_table_records=lambda *_: records):
            request = SimpleNamespace(disk=SimpleNamespace(source=None))
            found = volume._of_volume(request, SimpleNamespace(number=2))
        return [(each.offset, each.after) for each in found]

    def test_the_damaged_copy_of_a_record_becomes_like_the_sound_one(self):
        good, torn = (True, b"good"), (False, b"torn")
        self.assertEqual(self.patches((good, good)), [])
        self.assertEqual(self.patches((good, torn), (torn, good)), [(900, b"good"), (100, b"good")])
        self.assertEqual(self.patches((good, (False, b"good"))), [(900, b"good")])
        self.assertEqual(self.patches((good, (True, b"older"))), [(900, b"good")])
        with self.assertRaises(RefusedError):
            self.patches((torn, torn))


class Stores(unittest.TestCase):
    def way(self, told):
        return store_entries.Recovery({}, {}, told)

    def noted(self, ways, why, *volumes):
        systems = [
            SimpleNamespace(start=SimpleNamespace(volume=SimpleNamespace(number=number), root="/f"))
            for number in volumes
        ]
        with replaced(store_entries, recoveries=lambda *_: (ways, why)):
            return store_entries._ways(NOTHING, None, "/BCD", systems)[1]

    def test_what_is_said_of_the_way_to_recovery_is_said_once_and_where_it_is_true(self):
        way = {(1, "f"): self.way("/BCD.old")}
        told = "; its way to recovery (volume 1) as /BCD.old names it"
        self.assertEqual(self.noted(way, "", 1), told)
        self.assertEqual(self.noted({}, "", 1), f"; {store_entries._NO_WAY}")
        self.assertEqual(self.noted(way, "", 1, 2), f"{told}; {store_entries._NO_WAY}")
        self.assertEqual(self.noted({}, "it is lost", 1), "; it is lost")

    def working(self, *entries):
        def keys(loader):
            value = SimpleNamespace(data=lambda _: b"device", text=lambda _: loader)
            return SimpleNamespace(child=lambda _name: value)

        rows = [
            (identity, kind, keys(loader) if loader is not None else None)
            for identity, kind, loader in entries
        ]
        system = SimpleNamespace(
            start=SimpleNamespace(volume=SimpleNamespace(number=2)), loader="/Ferry/load.efi"
        )

        class Volumes:
            def __init__(self, *_):
                pass

            def find(self, _device, named):
                return (None if "lost" in named else SimpleNamespace(number=2)), ""

        with replaced(
            store_entries,
            objects_of=lambda _hive: rows,
            StoreVolumes=Volumes,
        ):
            file = SimpleNamespace(volume=None)
            return store_entries._working(SimpleNamespace(environment=None), file, None, [system])

    def test_an_entry_works_that_is_one_of_a_system_and_names_its_loader(self):
        loader = boot_store.SYSTEM_LOADER
        self.assertEqual(
            self.working(
                ("{other kind}", loader + 1, "\\ferry\\load.efi"),
                ("{no elements}", loader, None),
                ("{other loader}", loader, "\\ferry\\other.efi"),
                ("{no volume}", loader, "\\lost\\load.efi"),
                ("{works}", loader, "\\ferry\\LOAD.efi"),
                ("{too}", loader, "\\ferry\\load.efi"),
            ),
            {2: "{works}"},
        )

    def recovered(self, entries, lost=""):
        def needed(_objects, names):
            return (dict.fromkeys(names, "object"), "a part is lost" if "torn" in names else "")

        with replaced(
            store_entries,
            _sources=lambda *_: [(None, "/BCD.unreadable"), (None, "/BCD.old")],
            read_all=self.read,
            _objects=lambda data: data,
            _entries=lambda _request, _where, _objects: entries,
            _needed=needed,
            _lost_image=lambda *_: lost,
        ):
            return store_entries.recoveries(NOTHING, None, "/BCD", {(1, "f"), (2, "f")})

    def read(self, _request, _where, place):
        if "unreadable" in place:
            raise RefusedError("unreadable")
        return b""

    def test_ways_to_recovery_are_those_of_the_systems_that_are_wanted_and_whole(self):
        def entry(name):
            return {boot_store.RECOVERY_SEQUENCE: boot_store.as_texts([name]), 7: b"other"}

        entries = [
            ((9, "f"), entry("a")),
            ((1, "f"), {7: b"names none"}),
            ((1, "f"), entry("b")),
            ((1, "f"), entry("c")),
            ((2, "f"), entry("d")),
        ]
        found, why = self.recovered(entries)
        self.assertEqual(sorted(found), [(1, "f"), (2, "f")])
        way = found[1, "f"]
        self.assertEqual((way.objects, way.told_by, why), ({"b": "object"}, "/BCD.old", ""))
        self.assertEqual(list(way.elements), [boot_store.RECOVERY_SEQUENCE])
        found, why = self.recovered(entries, lost="its image is gone")
        self.assertEqual((found, why[-17:]), ({}, "its image is gone"))
        found, why = self.recovered([((1, "f"), entry("torn")), *entries])
        self.assertEqual((sorted(found), why), ([(1, "f"), (2, "f")], ""))

    def test_an_object_is_whole_unless_anything_of_it_is_lost(self):
        def key(name, *, lost=False, numbers=()):
            return SimpleNamespace(
                name=name,
                cell=SimpleNamespace(values=1),
                value=lambda _: None if lost else SimpleNamespace(length=4),
                data=lambda _: b"data",
                number=dict(numbers).get,
            )

        def made(*elements):
            inside = [
                key("Description", numbers={"Type": 5}.items()),
                SimpleNamespace(name="Elements", children=lambda: elements),
            ]
            return store_entries._object(SimpleNamespace(children=lambda: inside))

        sound = [key(f"{0x12000000 + number:08x}") for number in range(3)]
        self.assertTrue(made(*sound).is_whole)
        self.assertFalse(made(*sound, key("12000009", lost=True)).is_whole)
        self.assertFalse(made(*sound, key("no number")).is_whole)
        many = [key(f"{0x12000000 + n:08x}") for n in range(store_entries._MOST_ELEMENTS + 1)]
        self.assertTrue(made(*many[:-1]).is_whole)
        self.assertFalse(made(*many).is_whole)

    def test_an_entry_tells_a_system_where_its_volume_and_folder_are_known(self):
        volume = SimpleNamespace(number=3)

        class Volumes:
            def __init__(self, *_):
                pass

            def find(self, device, _path):
                return (volume if device.kind == "partition" else None), ""

        def each(device, root, kind=boot_store.SYSTEM_LOADER):
            elements = {boot_store.SYSTEM_DEVICE: device}
            if root:
                elements[boot_store.SYSTEM_ROOT] = boot_store.as_text(root)
            return store_entries.StoreObject(kind, elements, is_whole=True)

        def device(raw):
            return SimpleNamespace(kind="partition" if raw else "other")

        objects = {
            "a": each(b"d", ""),
            "b": each(b"", "\\Ferry"),
            "c": each(b"d", "\\Ferry", kind=1),
            "d": each(b"d", "\\Ferry"),
        }
        with (
            replaced(store_entries, StoreVolumes=Volumes),
            patch.object(store_entries.store, "device", device),
        ):
            request = SimpleNamespace(environment=None)
            found = [home for home, _ in store_entries._entries(request, None, objects)]
        self.assertEqual(found, [(3, "ferry")])


class Drivers(unittest.TestCase):
    def test_findings_of_a_driver_that_is_turned_off_are_answered(self):
        kind = services._FAULTS[0]
        mine = SimpleNamespace(where=SimpleNamespace(path="/ferry/PIER.sys"), says="")
        other = SimpleNamespace(where=SimpleNamespace(path="/ferry/quay.sys"), says="")
        lost, unlisted = "the filter Pier is lost", "the filter Pier is lost elsewhere"
        request = SimpleNamespace(
            found=lambda *ids: (mine, other) if kind in ids else (),
            trace=SimpleNamespace(findings=(mine, other, lost)),
        )
        known = {"pier": SimpleNamespace(path="/Ferry/pier.sys")}
        filters = [("Pier", lost), ("Pier", unlisted), ("Rail", lost)]
        with replaced(services, lost_filters=lambda *_: filters):
            self.assertEqual(list(services._answered(request, None, known, ["pier"])), [mine, lost])
            self.assertEqual(list(services._answered(request, None, {}, ["quay"])), [])

    def started(self, program):
        written = []

        class Editor:
            def set_value(self, path, name, kind, data):
                written.append((path, name, kind, data))

        over = SimpleNamespace(values=lambda: [SimpleNamespace(name="0", type=4)])
        settings = SimpleNamespace(
            control_set=SimpleNamespace(name="ControlSet001", path=lambda *_: over)
        )
        driver = SimpleNamespace(name="pier", path="/ferry/pier.sys", start=3)
        with replaced(
            services,
            nt_home=lambda _request: None,
            nt_settings=lambda _start: settings,
            _chosen=lambda *_: driver,
            read_program=lambda *_: program,
            open_system_hive=lambda *_: SimpleNamespace(editor=Editor, path="/SYSTEM"),
            hive_changes=lambda *_: [],
        ):
            services.propose_driver_start(NOTHING)
        return written

    def test_a_driver_that_is_there_starts_whatever_overrides_it(self):
        path = "ControlSet001\\Services\\pier"
        self.assertEqual(
            self.started(SimpleNamespace(why="", unread="")),
            [(path, "Start", 4, bytes(4)), (f"{path}\\StartOverride", "0", 4, bytes(4))],
        )
        for program in (
            None,
            SimpleNamespace(why="it is cut", unread=""),
            SimpleNamespace(why="", unread="too large"),
        ):
            with self.assertRaises(RefusedError):
                self.started(program)

    def test_differences_of_nothing_are_none(self):
        self.assertEqual(changing.differing(b"", b""), [])


if __name__ == "__main__":
    unittest.main()
