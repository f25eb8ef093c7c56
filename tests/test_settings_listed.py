"""The settings of a moment as a list, and two moments set against each other: hives made for the
question, each expected sentence written by hand.
"""

import struct
import unittest
import uuid

from mending.disk.hives import Hive
from mending.disk.settings import HiveSet, compared, listed
from mending.workshop.nt import hive_bytes

GUID = uuid.UUID("5a2f9e00-0000-4000-8000-00000000beef")
CONTROL = {
    "Services": {
        "Quay": {
            "Type": 1,
            "Start": 0,
            "ErrorControl": 3,
            "ImagePath": "quay.sys",
            "Group": "Pier",
        },
        "Buoy": {"Type": 2, "Start": 1, "ErrorControl": 1},
        "Lamp": {"Type": 8, "Start": 3, "ErrorControl": 3},
        "Desk": {"Type": 16, "Start": 2},
        "Past": {"Type": 32, "Start": 4},
        "Odd": {"Type": 1},
    },
    "Control": {
        "Class": {
            "{1}": {"Class": "Volume", "UpperFilters": ["tide"], "LowerFilters": ["salt", "mist"]},
            "{2}": {"UpperFilters": ["gull"]},
        },
        "Session Manager": {"BootExecute": ["check *"], "Other": ["x"]},
    },
    "Enum": {
        "USB": {
            "Printer": {
                "7": {"FriendlyName": "Ticket printer", "DeviceDesc": "a;b", "Service": "print"},
                "8": {"DeviceDesc": "@x;Card reader"},
                "9": {"Other": 1},
            }
        }
    },
}
SYSTEM = {
    "Select": {"Current": 1, "Default": 1, "LastKnownGood": 2},
    "ControlSet001": CONTROL,
    "Setup": {"SystemSetupInProgress": 0, "SetupType": 2, "CmdLine": "setup.exe"},
    "MountedDevices": {
        "\\DosDevices\\C:": b"DMIO:ID:" + GUID.bytes_le,
        "\\DosDevices\\D:": struct.pack("<IQ", 0xFE0000BB, 1 << 20),
        "\\DosDevices\\E:": b"other",
        "\\Volume{x}": b"no letter",
    },
}
CURRENT = {
    "Winlogon": {"Userinit": "sign.exe,", "Shell": "desk.exe"},
    "Run": {"Tray": "tray.exe"},
    "RunOnce": {"Setup": "once.exe"},
    "Uninstall": {
        "A": {"DisplayName": "Tariffs", "DisplayVersion": "2.1", "InstallDate": "20261101"},
        "B": {"DisplayName": "Charts"},
        "C": {"DisplayVersion": "no name"},
    },
    "Component Based Servicing": {
        "Packages": {
            "KB1~x~1": {"CurrentState": 0x70},
            "KB2~x~1": {"CurrentState": 0x60},
            "KB3~x~1": {"CurrentState": 0x35},
            "~KB4": {"CurrentState": 0x70},
            "KB5": {"Other": 1},
        }
    },
}
PROGRAMS = {"Maker": {"System": {"CurrentVersion": CURRENT}}}
DECIDES = {"driver Quay", "driver Buoy", "filter Volume UpperFilters", "filter Volume LowerFilters"}
DECIDES |= {"filter {2} UpperFilters", "session BootExecute", "control-set Current"}
DECIDES |= {"control-set Default", "control-set LastKnownGood", "set-up SystemSetupInProgress"}
DECIDES |= {"set-up SetupType", "set-up CmdLine", "letter C:", "letter D:", "letter E:"}
DECIDES |= {"sign-in Userinit", "sign-in Shell"}


def hives(system=SYSTEM, programs=PROGRAMS, written=0):
    made = [Hive(hive_bytes(keys, 0)) if keys is not None else None for keys in (system, programs)]
    return HiveSet(home="/config", system=made[0], programs=made[1], written=written, notes=())


class Listed(unittest.TestCase):
    def test_every_setting_in_plain_words(self):
        found, notes = listed(hives())
        self.assertEqual(notes, ())
        self.assertEqual(
            {f"{each.kind} {each.name}": each.says for each in found.values()},
            {
                "driver Quay": "starts with the kernel; quay.sys; group Pier; the start ends"
                " without it",
                "driver Buoy": "is started by the kernel",
                "driver Lamp": "is started on demand",
                "service Desk": "is started by the session",
                "service Past": "is switched off",
                "filter Volume UpperFilters": "tide",
                "filter Volume LowerFilters": "salt; mist",
                "filter {2} UpperFilters": "gull",
                "session BootExecute": "check *",
                "control-set Current": "1",
                "control-set Default": "1",
                "control-set LastKnownGood": "2",
                "set-up SystemSetupInProgress": "0",
                "set-up SetupType": "2",
                "set-up CmdLine": "setup.exe",
                "letter C:": f"bound to partition {GUID}",
                "letter D:": "bound to byte 1048576 of disk fe0000bb",
                "letter E:": "bound to 6f 74686572",
                "device USB\\Printer\\7": "Ticket printer; driver print",
                "device USB\\Printer\\8": "Card reader",
                "device USB\\Printer\\9": "",
                "sign-in Userinit": "sign.exe,",
                "sign-in Shell": "desk.exe",
                "start-up Tray": "tray.exe",
                "start-up Setup": "once.exe; once",
                "program Tariffs": "2.1; since 2026-11-01",
                "program Charts": "",
                "update KB1": "installed",
                "update KB2": "waits for a restart",
                "update KB3": "state 0x35",
            },
        )
        self.assertEqual(
            {f"{each.kind} {each.name}" for each in found.values() if each.decides}, DECIDES
        )

    def test_hives_without_any_of_it_list_nothing(self):
        self.assertEqual(listed(hives({"Other": {}}, {"Other": {}})), ({}, ()))
        self.assertEqual(listed(hives(None, None)), ({}, ()))


class Compared(unittest.TestCase):
    def changes(self, before, after):
        found = compared(("a", "b"), before, after)
        return found, [
            (each.kind, each.name, each.change, each.was, each.is_, each.decides)
            for each in found.changes
        ]

    def test_what_is_the_same_is_no_change(self):
        found, changes = self.changes(hives(), hives(written=116_444_746_000_000_000))
        self.assertEqual((changes, found.others), ([], {"system": 0, "software": 0}))
        self.assertEqual(found.sides[0].written, None)
        self.assertIn("1970-01-01", found.sides[1].written)
        self.assertEqual([side.name for side in found.sides], ["a", "b"])

    def test_what_the_start_depends_on_comes_first(self):
        other = {name: dict(rows) for name, rows in CONTROL["Services"].items()}
        other["Quay"]["Start"] = 3
        del other["Desk"]
        other["Rope"] = {"Type": 16, "Start": 3}
        other["Buoy"]["ImagePath"] = "BUOY.sys"
        now = {**SYSTEM, "ControlSet001": {**CONTROL, "Services": other}}
        found, changes = self.changes(hives(), hives(now))
        was = "starts with the kernel; quay.sys; group Pier; the start ends without it"
        kernel, quay = "is started by the kernel", "is started on demand; quay.sys; group Pier"
        self.assertEqual(
            changes,
            [
                ("driver", "Buoy", "changed", kernel, f"{kernel}; BUOY.sys", True),
                ("driver", "Quay", "changed", was, quay, True),
                ("service", "Desk", "removed", "is started by the session", "", False),
                ("service", "Rope", "added", "", "is started on demand", False),
            ],
        )
        self.assertEqual(found.others, {"system": 4, "software": 0})

    def test_a_hive_that_one_side_lacks_is_left_out_and_said(self):
        found, changes = self.changes(hives(), hives(programs=None))
        self.assertEqual((changes, found.others), ([], {"system": 0}))
        self.assertEqual(len(found.notes), 1)
        self.assertIn("no hive of programs", found.notes[0])
        found, changes = self.changes(hives(system=None), hives())
        self.assertEqual((changes, found.others), ([], {"software": 0}))
        self.assertIn("no system hive", found.notes[0])


if __name__ == "__main__":
    unittest.main()
