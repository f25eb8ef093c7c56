"""What ends of runs name, and what of that a change brought: modules, programs, files, devices."""

import unittest
from pathlib import Path

from benchmarks.linux_records import OTHERWISE, laid_out, records

from mending.crash.judge.suspects import (
    Mention,
    What,
    mentions_in,
    pointed_at,
    same_program,
    touches,
)
from mending.crash.read import packages_of
from mending.crash.results import CrashResult, ModuleResult, SilentEndResult
from mending.disk.files import open_tree
from mending.disk.system import Brought, drivers_of
from mending.source import open_folder_source
from tests.real import FOLDER, needs_real
from tests.support import InFolder


def crash(**told):
    return CrashResult(**{"file": "log", "line": 1, "kind": "oops", "headline": "BUG", **told})


def silence(last, by_hand=""):
    return SilentEndResult(
        at="2026-10-02T09:00:00Z",
        last=last,
        silent_seconds=90.0,
        signs=(),
        reset="",
        watchdog=False,
        by_hand=by_hand,
        says="",
    )


def named(end):
    return {(mention.what.value, mention.name) for mention in end}


class Mentions(unittest.TestCase):
    def test_what_a_crash_names(self):
        system = ModuleResult(name="kernel.exe", why="", system=True, built="")
        for told, expected in (
            ({"module": "slipprint"}, {("module", "slipprint")}),
            ({"trace": ("a+0x1 [tide]", "b")}, {("module", "tide")}),
            ({"modules": (system,)}, set()),
            ({"program": "tilld"}, {("program", "tilld")}),
            ({"program": "kworker/0:1"}, set()),
            ({"program": "swapper/0"}, set()),
            ({"program": "irq/44-quaynet"}, {("module", "quaynet")}),
            ({"program": "init"}, set()),
            ({"program": "tilld", "kind": "out-of-memory"}, set()),
            ({"reason": "fault in /usr/lib/libtide.so.2 of tilld"}, {("file", "libtide.so.2")}),
            ({"headline": "kernel BUG at drivers/usb/slip.c:121!"}, set()),
        ):
            found = mentions_in([crash(**told)], [])
            self.assertEqual(named(found[0]) if found else set(), expected, told)

    def test_what_the_last_words_name(self):
        for last, expected in (
            ("kernel: slipprint 1-3:1.0: transfer timed out", {("last-words", "slipprint")}),
            ("kernel: quaynet 0000:02:00.0 eth0: link is down", {("last-words", "quaynet")}),
            (
                "kernel: tide: reset failed [tidecore]",
                {("last-words", n) for n in ("tide", "tidecore")},
            ),
            ("kernel: usb 1-3: reset high-speed device", set()),
            ("kernel: random: crng init done", set()),
            ("kernel: Command line: root=/dev/sda1", set()),
            ("tilld[412]: ticket printed", {("program", "tilld")}),
            ("systemd[1]: Started something", set()),
            ("", set()),
        ):
            found = mentions_in([], [silence(last)])
            self.assertEqual(named(found[0]) if found else set(), expected, last)
        self.assertEqual(mentions_in([], [silence("tilld[1]: sold", "answered")]), [])

    def test_a_kernel_keeps_the_beginning_of_a_name(self):
        self.assertTrue(same_program("timetable-collector", "timetable-colle"))
        self.assertFalse(same_program("timetable", "timetabl"))


class Weights(unittest.TestCase):
    def weight(self, name, *mentions, brought=None, times=3):
        ends = [tuple(Mention(what, each) for what, each in mentions)] * times
        return pointed_at((name,), ends, {name: brought} if brought else {}).weight

    def test_a_module_says_more_than_last_words_and_those_more_than_a_program(self):
        tools = Brought(frozenset({"tide"}), programs=frozenset({"tided"}))
        weights = [
            self.weight("port-tools", (what, each), brought=tools, times=9)
            for what, each in (
                (What.MODULE, "tide"),
                (What.LAST_WORDS, "tide"),
                (What.PROGRAM, "tided"),
            )
        ]
        self.assertEqual(weights, [6.0, 4.0, 2.0])

    def test_weak_ones_speak_for_a_change_and_never_against_one(self):
        self.assertEqual(self.weight("bash", (What.PROGRAM, "tided")), 0.0)
        self.assertEqual(self.weight("bash", (What.LAST_WORDS, "tide")), 0.0)
        self.assertLess(self.weight("bash", (What.MODULE, "tide")), 0.0)
        both = ((What.MODULE, "tide"), (What.PROGRAM, "bash"))
        self.assertGreater(self.weight("bash", *both), self.weight("less", *both))

    def test_a_program_of_a_common_name_is_not_taken_for_a_part_of_another(self):
        program = Mention(What.PROGRAM, "till")
        self.assertEqual(touches("till-camera-dkms", program), 0.0)
        self.assertEqual(touches("till", program), 1.0)
        self.assertEqual(touches("till", program, Brought(frozenset())), 0.0)
        self.assertEqual(touches("linux-image-6.1", program), 0.0)

    def test_files_by_the_list_of_their_package(self):
        library = Mention(What.FILE, "libtide.so.2")
        brought = Brought(frozenset(), libraries=frozenset({"libtide.so.2"}))
        self.assertEqual(touches("port-tools", library, brought), 1.0)
        self.assertEqual(touches("port-tools", library), 0.0)


class Devices(InFolder):
    def test_programs_and_libraries_of_a_list(self):
        place = self.folder / "pc/var/lib/dpkg/info/port-tools.list"
        place.parent.mkdir(parents=True)
        place.write_text("/.\n/usr/sbin/tided\n/usr/lib/x86/libtide.so.2\n/usr/share/doc/x/bin\n")
        found = packages_of(self.folder / "pc", ["port-tools"])["port-tools"]
        self.assertEqual((set(found.programs), set(found.libraries)), ({"tided"}, {"libtide.so.2"}))

    @needs_real
    def test_the_table_of_a_real_kernel_tells_the_driver(self):
        names = (
            "[1af4:1041] type 00 class 0x020000",
            "[144d:a808] type 00 class 0x010802",
            "[ffff:0001] type 00 class 0xff0000",
            "1-2: New USB device found, idVendor=ffff, idProduct=0001",
            "mmc0: new high speed card",
        )
        root = Path(FOLDER) / "root"
        found = drivers_of(open_tree(open_folder_source(str(root))), names)
        self.assertEqual(found[names[0]].modules, {"virtio_pci"})
        self.assertEqual(set(found) - {names[1]}, {names[0]})  # a driver by class is a guess

    def test_identifiers_of_maker_and_product(self):
        table = self.folder / "pc/lib/modules/6.1/modules.alias"
        table.parent.mkdir(parents=True)
        table.write_text(
            "alias usb:v1209p0A11d*dc*dsc*dp*ic*isc*ip*in* slipprint\n"
            "alias usb:v1209p*d*dc*dsc*dp*ic07isc*ip*in* other\n"
            "alias usb:v*p*d*dc*dsc*dp*ic08isc06ip50in* usb_storage\n"
            "alias pci:v00008086d00001533sv*sd*bc*sc*i* quaynet\n"
            "alias [ broken\nalias pci:v[ x\n"
        )
        names = (
            "1-3: New USB device found, idVendor=1209, idProduct=0a11",
            "[8086:1533] type 00 class 0x020000",
        )
        found = packages_of(self.folder / "pc", names)
        self.assertEqual(
            {name: set(each.modules) for name, each in found.items()},
            {names[0]: {"slipprint"}, names[1]: {"quaynet"}},
        )


class Unknown(InFolder):
    def test_a_device_of_which_no_table_knows_the_driver_is_not_held_against(self):
        story = records(2, "device")
        lists = {name: text for name, text in story.lists.items() if "modules.alias" not in name}
        laid_out(story._replace(lists=lists), self.folder / "pc")
        found = self.json_here("crashes", self.folder / "pc")["suspects"]
        device = next(each for each in found if story.guilty in each["change"])
        self.assertEqual(device["named_of"], 0)
        self.assertGreater(device["share"], 0.1)


class Stories(InFolder):
    def test_guilty_changes_that_are_named_otherwise_come_first(self):
        words = {
            "program": "ran at",
            "silent": "spoke last before",
            "device": "the driver that it uses",
        }
        for kind in OTHERWISE:
            first = said = 0
            for seed in range(4):
                story = records(seed, kind)
                place = self.folder / f"{kind}-{seed}"
                laid_out(story, place)
                top = self.json_here("crashes", place)["suspects"][0]
                first += story.guilty in top["change"]
                said += words[kind] in top["says"]
            self.assertGreaterEqual(min(first, said), 3, kind)
        shown = self.run_here("crashes", self.folder / "silent-0")
        self.assertIn("earlier ones", shown)
        self.assertIn("transfer timed out", shown)
