"""Rules of the nt family's start on their own: which path a line of settings means, what is left
unfinished or switched off, what is inherited in a boot configuration, what is told of room.
"""

import struct
import unittest
from types import SimpleNamespace
from unittest.mock import patch

from mending.boot.nt import replayed_hive, session, start, store, system_hive
from mending.boot.nt.start import NtStart, judge_program, read_program
from mending.disk.hives import Hive, Replayed
from mending.knowledge.families import nt_names
from mending.model import FindingId, VolumeState, Where
from mending.workshop.nt import hive_bytes

MANAGER = "Control\\Session Manager"


def hive(keys):
    """A hive of values by the paths of their keys."""
    nested = {}
    for path, values in keys.items():
        inside = nested
        for name in path.split("\\"):
            inside = inside.setdefault(name, {})
        inside.update(values)
    return Hive(hive_bytes(nested, 5))


def found(method, **members):
    """The findings of one method, whose object has just these members."""
    place = {"_hive_place": Where, "_where": Where()}
    return list(method(SimpleNamespace(**place, **members)))


def ids(findings):
    return [each.id for each in findings]


class Paths(unittest.TestCase):
    START = NtStart(None, None, "/Sys")

    def test_what_a_path_of_settings_means(self):
        for written, wanted in (
            ("\\SystemRoot\\system32\\drivers\\quay.sys", ("/Sys/system32/drivers/quay.sys", True)),
            ("%SystemRoot%\\quay.exe", ("/Sys/quay.exe", True)),
            ("%SystemDrive%\\Desk\\quay.exe", ("/Desk/quay.exe", True)),
            ("C:\\Desk\\quay.exe", ("/Desk/quay.exe", True)),
            ("system32\\quay.exe", ("system32/quay.exe", False)),
            ("quay", ("quay", False)),
        ):
            self.assertEqual(self.START.located(written), wanted, written)

    def test_a_program_of_a_line_is_told_from_its_arguments(self):
        for line, wanted in (
            ('"C:\\Desk\\the quay.exe" /fast', "/Desk/the quay.exe"),
            ("C:\\Desk\\quay.exe /fast", "/Desk/quay.exe"),
            ("\\??\\C:\\Desk\\quay.exe", "/Desk/quay.exe"),
        ):
            self.assertEqual(self.START.program(line), (wanted, True), line)

    def environment(self, files):
        return SimpleNamespace(
            find=lambda _volume, path: files.get(path),
            read=lambda _volume, path, _most: files[path].data,
        )

    def test_no_more_programs_are_read_than_there_is_room_for(self):
        file = SimpleNamespace(path="/a.exe", bytes=6, is_folder=False, data=b"quay..")
        start = NtStart(self.environment({"/a.exe": file}), None, "/Sys")
        start.shared.left = 6
        first, second = read_program(start, "/a.exe"), read_program(start, "/a.exe")
        self.assertEqual((first.unread, bool(first.why)), ("", True))
        self.assertIn("were read before it", second.unread)
        self.assertIsNone(read_program(start, "/b.exe"))
        folder = SimpleNamespace(path="/c", bytes=0, is_folder=True)
        start = NtStart(self.environment({"/c": folder}), None, "/Sys")
        self.assertIsNone(read_program(start, "/c"))

    def test_where_a_program_is_damaged(self):
        self.assertEqual(judge_program("/a.exe", b"", 0).why, "it is empty")
        damaged = judge_program("/a.exe", b"no program".ljust(4096, b"\1"), 0)
        self.assertIn(f"at offset {damaged.offset}", damaged.why)


class Unfinished(unittest.TestCase):
    def set_up(self, keys):
        settings = SimpleNamespace(hive=hive(keys))
        return found(session.SessionChecks._set_up, _settings=settings)

    def test_a_set_up_that_has_not_ended(self):
        self.assertEqual(self.set_up({"Other": {}}), [])
        done = {"SetupType": 0, "SystemSetupInProgress": 0, "CmdLine": "quay.exe"}
        self.assertEqual(self.set_up({"Setup": done}), [])
        for name in ("SetupType", "SystemSetupInProgress"):
            (fault,) = self.set_up({"Setup": {**done, name: 1}})
            self.assertEqual(fault.id, FindingId.SETUP_UNFINISHED)
            self.assertIn("quay.exe", fault.says)

    def dumps(self, keys):
        return self.of_control_set(session.SessionChecks._dumps, keys)

    def of_control_set(self, method, keys):
        return found(method, _settings=SimpleNamespace(control_set=hive(keys).root))

    def test_whether_a_stop_leaves_a_record(self):
        pages = f"{MANAGER}\\Memory Management"
        self.assertEqual(self.dumps({"Other": {}}), [])
        self.assertEqual(self.dumps({"Control\\CrashControl": {"CrashDumpEnabled": 3}}), [])
        (off,) = self.dumps({"Control\\CrashControl": {"CrashDumpEnabled": 0}})
        self.assertIn("switched off", off.says)
        self.assertEqual(self.dumps({pages: {"PagingFiles": ["C:\\pagefile.sys 0 0"]}}), [])
        (none,) = self.dumps({pages: {"PagingFiles": []}})
        self.assertIn("no page file", none.says)

    def checking(self, keys):
        return self.of_control_set(system_hive.DeviceChecks._checking, keys)

    def test_whether_drivers_are_checked_while_they_run(self):
        key = f"{MANAGER}\\Memory Management"
        self.assertEqual(self.checking({"Other": {}}), [])
        self.assertEqual(self.checking({key: {"VerifyDriverLevel": 0}}), [])
        (level,) = self.checking({key: {"VerifyDriverLevel": 0x9BB}})
        self.assertEqual(level.id, FindingId.DRIVER_CHECKING_LEFT_ON)
        self.assertIn("level 9bb", level.says)
        (names,) = self.checking({key: {"VerifyDrivers": "quay.sys"}})
        self.assertIn("quay.sys", names.says)

    def test_room_on_the_systems_volume(self):
        gib = 1 << 30
        for used, size, state, told in (
            (None, 100 * gib, VolumeState.CLEAN, False),
            (10 * gib, 0, VolumeState.CLEAN, False),
            (100 * gib, 100 * gib, VolumeState.UNKNOWN, False),
            (100 * gib, 100 * gib, VolumeState.CLEAN, True),
            (50 * gib, 100 * gib, VolumeState.CLEAN, False),
            (97 << 20, 100 << 20, VolumeState.CLEAN, False),
            (99 << 20, 100 << 20, VolumeState.CLEAN, True),
        ):
            info = SimpleNamespace(used=used, bytes=size, state=state)
            environment = SimpleNamespace(contents=lambda _volume, i=info: SimpleNamespace(info=i))
            start = SimpleNamespace(environment=environment, volume=None)
            findings = found(session.SignInChecks._room, _start=start)
            self.assertEqual(bool(findings), told, (used, size, state))


class Entries(unittest.TestCase):
    def of(self, method, entry, objects=None):
        checks = SimpleNamespace(_says=lambda says: says, _where=Where)
        words = (entry,) if objects is None else (objects, entry)
        return [each.says for each in method(checks, *words)]

    def entry(self, numbers=None, recovery=()):
        return SimpleNamespace(title="quay", numbers=numbers or {}, recovery=recovery)

    def test_settings_that_change_a_start_are_told(self):
        rows = nt_names().settings
        self.assertGreater(len(rows), 2)
        for row in rows:
            value = row.values[0] if row.values else 1
            (says,) = self.of(store.StoreChecks._settings, self.entry({row.element: value}))
            self.assertIn(row.says, says)
            self.assertEqual(
                self.of(store.StoreChecks._settings, self.entry({row.element: 0x7FFF}))
                if row.values
                else [],
                [],
            )
        self.assertEqual(self.of(store.StoreChecks._settings, self.entry()), [])

    def test_a_recovery_that_cannot_be_opened(self):
        objects = hive({"Objects\\{there}": {"Type": 1}})
        off = {store.store.RECOVERY_ENABLED: 0}
        for entry, word in (
            (self.entry(), ""),
            (self.entry(recovery=("{there}",)), ""),
            (self.entry(recovery=("{gone}",)), "is not there"),
            (self.entry(off, ("{there}",)), "switched off"),
        ):
            told = self.of(store.StoreChecks._recovery, entry, objects)
            self.assertEqual([word in says for says in told], [True] if word else [])

    def test_which_store_a_loader_reads(self):
        beside = f"/EFI/quay/{nt_names().store.beside_loader}"
        environment = SimpleNamespace(volumes=())
        for stores, carried, wanted in (
            (["/EFI/a/S"], "", "/EFI/a/S"),
            (["/EFI/a/S", beside], "", beside),
            (["/EFI/a/S", "/EFI/b/S"], "/efi/B/s", "/EFI/b/S"),
            ([], "/EFI/b/S", "/EFI/b/S"),
        ):
            with (
                patch.object(store, "stores_on", lambda *_words, s=stores: s),
                patch.object(store, "carried_store", lambda _data, c=carried: c),
                patch.object(store, "StoreChecks", lambda _env, _volume, path: Chosen(path)),
            ):
                link = store.behind_loader(environment, None, "/EFI/quay/m.efi", b"")
                self.assertEqual(link, wanted)


class Chosen:
    """Stands where the checks of a store would be."""

    def __init__(self, path):
        self.store = path


class Stores(unittest.TestCase):
    def store(self, objects):
        keys = {}
        for name, elements in objects.items():
            for element, data in elements.items():
                keys[f"Objects\\{name}\\Elements\\{element}"] = {"Element": data}
        return hive(keys)

    def test_what_an_entry_lacks_it_inherits(self):
        inherits = f"{store.store.INHERITS:08x}"
        made = self.store(
            {
                "{entry}": {"11000001": b"own", inherits: ["{parent}", "{gone}"]},
                "{parent}": {
                    "00000000x": b"none",
                    "11000001": b"other",
                    "21000001": b"from above",
                    inherits: ["{entry}"],
                },
            }
        )
        elements = store._with_inherited(made, "{entry}")
        self.assertEqual((elements[0x11000001], elements[0x21000001]), (b"own", b"from above"))

    def test_a_hive_that_is_cut_short_tells_its_length(self):
        environment = SimpleNamespace(read=lambda *_words: b"regf")
        none, after, why = replayed_hive(environment, None, "/store")
        self.assertEqual((none, after), (None, Replayed(b"regf", 0, False)))
        self.assertEqual(why, "it has only 4 bytes")

    def test_tags_are_numbers_of_four_bytes(self):
        raw = struct.pack("<4I", 3, 0x1_0001, 0x2_0001, 0x100_0001)
        key = SimpleNamespace(data=lambda _name: raw)
        ranks = {0x1_0001: 0, 0x2_0001: 1, 0x100_0001: 2}
        self.assertEqual(start._tag_ranks(key, "quay"), ranks)
        few = SimpleNamespace(data=lambda _name: struct.pack("<3I", 1, 7, 5))
        self.assertEqual(start._tag_ranks(few, "quay"), {7: 0})


if __name__ == "__main__":
    unittest.main()
