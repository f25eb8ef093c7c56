"""Rules of tracing a start on their own: what sorts first, which entry, kernel, volume or driver is
meant, and what settings tell. What a rule asks of a disk is answered by the test.
"""

import struct
import unittest
from types import SimpleNamespace
from unittest.mock import patch

from mending.boot import new_entry
from mending.boot.chain.results import falling
from mending.boot.grub import script
from mending.boot.linux import kernels
from mending.boot.linux.sign_in import SignInChecks
from mending.boot.nt import start, store, system_hive
from mending.boot.nt.start import Driver, lost_bins
from mending.disk import settings
from mending.disk.hives import Hive
from mending.formats import hives
from mending.model import FindingId, RepairId, Severity
from mending.workshop.nt import hive_bytes


class Order(unittest.TestCase):
    def test_newer_versions_come_first_and_letters_from_the_end_of_the_alphabet(self):
        for newer, older in (
            ("6.10.0", "6.9.12"),
            ("6.1.0-13", "6.1.0-9"),
            ("6.1-rc2", "6.1-alpha"),
            ("6.1.1", "6.1"),
            ("b", "a"),
        ):
            falls = sorted((older, newer), key=falling)
            if newer.startswith(older):
                self.assertEqual(set(falls), {newer, older})
            else:
                self.assertEqual(falls, [newer, older])


class Menus(unittest.TestCase):
    ENTRIES = [SimpleNamespace(title=f"Ferry {n}", id=f"ferry-{n}") for n in range(3)]

    def test_an_entry_is_named_by_number_title_or_identity(self):
        for name, number in (("0", 0), ("2", 2), ("Ferry 1", 1), ("ferry-2", 2)):
            self.assertIs(script._named(self.ENTRIES, name), self.ENTRIES[number], name)
        for name in ("3", "99", "", "Ferry", "-1"):
            self.assertIsNone(script._named(self.ENTRIES, name), name)

    def searched(self, *words):
        with patch.object(
            script, "_found", lambda _state, kind, value, name, _line: (kind, value, name)
        ):
            return script._search(None, list(words), 1)

    def test_what_is_searched_and_which_variable_gets_it(self):
        for words, found in (
            (("--fs-uuid", "1-2"), ("uuid", "1-2", "")),
            (("--label", "DESK", "--set=home"), ("label", "DESK", "home")),
            (("-f", "/boot/mark", "--set"), ("file", "/boot/mark", "root")),
            (("--fs-uuid", "--set", "root", "1-2"), ("uuid", "1-2", "root")),
            (("--fs-uuid", "--set", "home", "1-2"), ("uuid", "1-2", "home")),
            (("--fs-uuid", "1-2", "hint", "--set"), ("uuid", "1-2", "root")),
            (("--fs-uuid", "--set", "1-2"), ("uuid", "1-2", "root")),
            ((), ("uuid", "", "")),
        ):
            self.assertEqual(self.searched(*words), found, words)

    def test_entries_in_files_of_their_own_are_read_where_the_manager_reads_them(self):
        esps = [SimpleNamespace(volume=number, loaders=[]) for number in (1, 2)]
        loader = SimpleNamespace(path="/EFI/BOOT/BOOTX64.EFI", sound=True)
        reading = SimpleNamespace(
            volume=3, loaders=[SimpleNamespace(path="/a", sound=False), loader]
        )
        for found, disk, home in (
            ([*esps, reading], "disk", 3),
            (esps, "disk", None),
            (esps, None, 1),
            ([], None, None),
        ):
            with (
                patch.object(new_entry, "efi_volumes", lambda _environment, found=found: found),
                patch.object(
                    new_entry, "_is_entry_reader", lambda _env, _volume, path: path == loader.path
                ),
            ):
                environment = SimpleNamespace(disk=disk)
                self.assertEqual(new_entry.entry_home(environment), home)


class Kernels(unittest.TestCase):
    def folders(self, role):
        def listing_of(path):
            depth = path.count("/")
            if depth > 9:
                self.fail("no end")
            return [
                SimpleNamespace(path=f"{path}/deck", is_folder=True, is_link=False),
                SimpleNamespace(path=f"{path}/vmlinuz", is_folder=False, is_link=False),
                SimpleNamespace(path=f"{path}/vmlinuz.link", is_folder=False, is_link=True),
            ]

        environment = SimpleNamespace(
            contents=lambda _volume: SimpleNamespace(role=role),
            find=lambda _volume, place: (
                SimpleNamespace(path=place) if place in {"", "boot"} else None
            ),
            files=lambda _volume: SimpleNamespace(listing=listing_of),
        )
        found = list(kernels._folders(environment, None))
        return [[file.path for file in inside] for inside in found]

    def test_kernels_are_looked_for_in_the_usual_folders_and_no_deeper(self):
        depth = len(self.folders("data"))
        self.assertEqual(depth, kernels._DEPTH + 1)
        system = self.folders("system")
        self.assertEqual([path.count("/deck") for (path,) in system], [0, 1])

    def belongs(self, *images):
        records = {
            path: SimpleNamespace(module_versions=versions, unchecked=unchecked, problems=problems)
            for path, versions, unchecked, problems in images
        }
        inside = [SimpleNamespace(path=path, bytes=1) for path in records]
        environment = SimpleNamespace(
            files=lambda _volume: SimpleNamespace(read=lambda file, _most: file.path)
        )

        def read(path):
            return records[path], records[path].problems

        with patch.object(kernels.initramfs, "read", read):
            return kernels._initrd(environment, None, inside, "6.1")

    def test_an_initramfs_belongs_to_a_kernel_by_what_is_in_it_or_by_its_name(self):
        self.assertEqual(self.belongs(("/initrd-x", {"6.1"}, "", ())), "/initrd-x")
        self.assertEqual(self.belongs(("/initrd-6.1", set(), "", ())), "/initrd-6.1")
        for image in (
            ("/initrd-6.1", {"5.9"}, "", ()),
            ("/initrd-5.9", set(), "", ()),
            ("/initrd-6.1", {"6.1"}, "", ("cut",)),
            ("/initrd-6.1", {"6.1"}, "not looked at", ()),
            ("/image-6.1", {"6.1"}, "", ()),
        ):
            self.assertEqual(self.belongs(image), "", image)


class Accounts(unittest.TestCase):
    def result(self, *severities, shells=("/bin/sh",)):
        found = [
            SimpleNamespace(id=FindingId.SHELL_UNFIT, severity=each, says="it cannot")
            for each in severities
        ]
        checks = SignInChecks(None, SimpleNamespace(number=1))
        with (
            patch.object(checks, "_look", lambda: (found, list(shells))),
            patch("mending.boot.linux.sign_in.SignInModules.findings", lambda _self: []),
            patch("mending.boot.linux.sign_in.changed_parts", lambda *_: []),
            patch("mending.boot.linux.sign_in.failed", lambda fault: _Failed(fault)),
            patch("mending.boot.linux.sign_in.msgspec.structs.replace", lambda made, **_: made),
            patch("mending.boot.linux.sign_in.passed", lambda _phase, says, *_, **__: says),
        ):
            return checks.accounts()

    def test_the_first_fatal_fault_ends_the_sign_in_and_a_warning_does_not(self):
        warning, fatal = Severity.WARNING, Severity.FATAL
        self.assertIn("/bin/sh can be run for it", self.result())
        self.assertIn(
            "/bin/a, /bin/b can be run for them", self.result(warning, shells=("/bin/a", "/bin/b"))
        )
        self.assertIsInstance(self.result(warning, fatal), _Failed)


class _Failed:
    def __init__(self, fault):
        self.fault = fault


class Hives(unittest.TestCase):
    def test_a_base_block_alone_can_be_made_anew_where_the_bins_are_whole(self):
        data = bytearray(hive_bytes({"Select": {"Current": 1}}, 0))
        self.assertIsNone(lost_bins(bytes(data)))
        self.assertIsNone(lost_bins(bytes(4096) + bytes(data[4096:])))
        for bins, repair in (
            (len(data), RepairId.HIVE_HEADER),  # it tells of more than is there
            (len(data) + 1, None),  # no such length can be
        ):
            struct.pack_into("<I", data, 40, bins)
            data[508:512] = hives.checksum(bytes(data[:512])).to_bytes(4, "little")
            self.assertEqual(lost_bins(bytes(data)), repair, bins)
        for lost in (b"", bytes(4096), bytes(data[:4096])):
            self.assertEqual(lost_bins(lost), RepairId.HIVE_HEADER)

    def test_a_time_counts_from_1601(self):
        unix_epoch = 11_644_473_600 * 10_000_000
        self.assertTrue(system_hive._time(unix_epoch).startswith("1970-01-01"))

    def settings(self, part, keys):
        return {(each.kind, each.name): each for each in part(Hive(hive_bytes(keys, 0)))}

    CONTROL = {"Select": {"Current": 1}}

    def test_services_and_drivers_are_told_apart_and_what_the_start_needs_decides(self):
        keys = {
            **self.CONTROL,
            "ControlSet001": {
                "Services": {
                    "Quay": {"Type": 1, "Start": 0, "ErrorControl": 3, "ImagePath": "quay.sys"},
                    "Pier": {"Type": 1, "Start": 3},
                    "Desk": {"Type": 16, "Start": 2, "ErrorControl": 1},
                    "Odd": {"Type": 1},
                }
            },
        }
        found = self.settings(settings._services, keys)
        self.assertEqual(set(found), {("driver", "Quay"), ("driver", "Pier"), ("service", "Desk")})
        decides = {name for (_, name), each in found.items() if each.decides}
        self.assertEqual(decides, {"Quay"})
        self.assertIn("quay.sys", found["driver", "Quay"].says)

    def test_a_day_is_eight_digits(self):
        self.assertEqual(settings._day("20261201"), "since 2026-12-01")
        for text in ("2026121", "202612011", "", "2026-2-1", "abcdefgh"):
            self.assertEqual(settings._day(text), "")

    def test_two_hives_differ_in_keys_whose_values_do(self):
        def hive(**settings):
            return Hive(hive_bytes({"Select": settings, "Setup": {"SetupType": 0}}, 0))

        self.assertEqual(settings._differing(hive(Current=1), hive(Current=1)), 0)
        self.assertEqual(settings._differing(hive(Current=1), hive(Current=2)), 1)
        self.assertEqual(settings._differing(hive(Current=1), hive(Default=1)), 1)


class Drivers(unittest.TestCase):
    def drivers(self, *rows):
        return {
            name: Driver(name, "", "", kind, start, 1, group, tag)
            for name, kind, start, group, tag in rows
        }

    def ordered(self, keys, known):
        control_set = Hive(hive_bytes(keys, 0)).root
        settings = SimpleNamespace(control_set=control_set)
        return [each.name for each in start.boot_drivers(settings, known)]

    def test_boot_drivers_are_loaded_by_group_and_in_a_group_by_tag(self):
        known = self.drivers(
            ("late", 1, 0, "Unlisted", 0),
            ("second", 1, 0, "Quay", 5),
            ("first", 1, 0, "QUAY", 9),
            ("before", 1, 0, "Pier", 0),
            ("demand", 1, 3, "Pier", 0),
            ("service", 16, 0, "Pier", 0),
            ("last", 1, 0, "Quay", 7),
        )
        tags = struct.pack("<III", 2, 9, 5)
        keys = {
            "Control": {
                "ServiceGroupOrder": {"List": ["Pier", "Quay"]},
                "GroupOrderList": {"Quay": tags},
            }
        }
        self.assertEqual(self.ordered(keys, known), ["before", "first", "second", "last", "late"])
        self.assertEqual(len(self.ordered({"Other": {}}, known)), 5)

    def test_a_device_is_at_a_volume_by_its_place_or_its_identity(self):
        volume = SimpleNamespace(offset=1 << 20, partuuid="AB-1")
        for offset, partition, at in (
            (1 << 20, "", True),
            (0, "ab-1", False),
            (-1, "ab-1", True),
            (-1, "ab-2", False),
            (2 << 20, "ab-1", False),
        ):
            device = SimpleNamespace(offset=offset, partition=partition)
            self.assertEqual(store._is_at(volume, device), at, (offset, partition))


if __name__ == "__main__":
    unittest.main()
