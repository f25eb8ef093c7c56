"""What people read: the words that matter, plain in a pipe, harmless, and the questions at the
keyboard.
"""

import os
import re
import tempfile
import unittest
from pathlib import Path

import pexpect

from mending.cli import COMMANDS
from mending.repair.boot import own_code
from mending.workshop import make_sample, samples
from mending.workshop.disks import DESK
from tests.support import PROGRAM, SECTOR, InFolder, needs, patch, run, sha, tool


class Shop(InFolder):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.shop = Path(cls.enterClassContext(tempfile.TemporaryDirectory())) / "shop"
        cls.told = run("demo", cls.shop)
        run("undo", cls.shop / "gate-2")

    def image(self, name):
        return make_sample(
            next(sample for sample in samples(own_code()) if sample.name == name), self.folder
        )


class Words(Shop):
    def check(self, words, *wanted):
        shown = " ".join(self.run_here(*words).split())
        for one in wanted:
            self.assertIn(one, shown)
        return shown

    def test_the_demo_tells_the_whole_job(self):
        for words in (
            "quay-desk-2: ",
            "stops at:",
            "plan",
            "440 bytes written",
            "trace after:",
            "reseat-memory",
            "before",
        ):
            self.assertIn(words, self.told)

    def test_a_trace_says_where_why_and_what_to_do(self):
        path = self.image("quay-desk-2")
        self.check(
            ("trace", path),
            "stops at: boot record",
            "because: The boot code is blank; the table behind it is sound.",
            "offset 0, 440 bytes: 440 x 00",
            f"do: mending mend {path} boot-code (2 min, nothing at risk)",
            "1* 2048 2.5 KiB of 40 MiB",
        )
        self.check(
            ("trace", self.image("purser-2")),
            "verdict: not sure; nothing that was read stops the start",
            "open: boot manager:",
            "also found warning The primary copy",
        )
        self.check(
            ("trace", self.image("purser-1"), "--firmware", "bios"),
            "bios firmware",
            "stops at: boot record",
        )

    def test_causes_plan_question_cases_and_signs(self):
        case = self.shop / "gate-2"
        self.check(
            ("causes", case),
            "active-flag-wrong (boot record, proven)",
            "found on the disk: Entries 1 and 2",
            "something else",
        )
        self.check(
            ("plan", case, "--all"),
            "1. bench",
            "set-active-flag",
            "nothing at risk",
            "if it names drive-dead:",
            "chance that it works:",
            "order: no order of these steps costs less",
            "Start from the stick and open the recovery prompt from there",
        )
        self.check(("plan", case), "if that did not help", "copy-boot-files", "next: mending mend")
        self.check(
            ("ask", case), "record it: mending saw", "=unknown cannot tell", "min of the plan"
        )
        self.check(
            ("cases", self.shop),
            "pier-kiosk open works again, to be closed",
            "gate-2 open disk stops at boot record",
        )
        self.check(("cases", self.folder), "No cases here.")
        self.check(
            ("signs",),
            "Does it beep, or blink a code, when it is switched on?",
            "beeps=pattern several beeps",
        )
        self.check(("signs", "--facts"), "restore-point=yes")
        self.check(
            ("saw", case, "logo=shown", "--fact", "encrypted=no"), "saw logo shown", "encrypted no"
        )

    def test_repairs_and_undo_points(self):
        path = self.image("quay-desk-2")
        self.check(
            ("mend", path, "boot-code", "--dry-run"),
            "440 bytes would be written",
            "before 440 x 00",
            "trace after: nothing that was read stops it",
        )
        self.check(("undo", path, "--list"), "No undo points")
        self.check(
            ("mend", path),
            "would be mended: 1; before: stops at boot record;",
            "after: nothing that was read stops it",
            "--all",
        )
        self.check(("mend", path, "--all", "--yes"), "mended: 1; before: stops at boot record")
        self.check(("mend", path), "No finding calls for a repair")
        self.check(("undo", path, "--list"), "boot-code 440 bytes done")

    def test_names_on_a_disk_cannot_reach_into_the_terminal(self):
        path = self.image("quay-desk-1")
        for at in (71, 6 * SECTOR + 71):
            patch(path, DESK[0] * SECTOR + at, b"\x1b[31mR\x07\x9bD\n ")
        for words in (("trace", path), ("trace", path, "--json"), ("rehearse", path)):
            shown = self.run_here(*words)
            self.assertFalse({"\x1b", "\x07", "\x9b"} & set(shown))

    def test_help_names_every_command_and_each_has_its_own(self):
        shown = self.run_here("--help")
        for name in COMMANDS:
            self.assertIn(f"  {name} ", shown)
            told = self.run_here(name, "--help")
            self.assertEqual("--json" in told, name not in {"help", "complete"}, name)
        self.assertIn("0.1.0", self.run_here("--version"))


class Undo(Shop):
    def test_points_are_undone_newest_first_and_a_named_one_only_when_nothing_lies_over_it(self):
        path = self.image("quay-desk-2")
        blank = sha(path)
        first = self.json_here("mend", path, "boot-code", "--yes")["undo_point"]
        patch(path, 0, bytes(440))
        second = self.json_here("mend", path, "boot-code", "--yes")["undo_point"]
        self.assertNotEqual(first, second)

        def states():
            listed = self.json_here("undo", path, "--list")["points"]
            return {point["id"]: point["state"] for point in listed}

        self.run_here("undo", path)
        self.assertEqual((states(), sha(path)), ({first: "undone", second: "undone"}, blank))
        self.assertIn("already undone", self.run_here("undo", path, second, expect=4))
        self.run_here("undo", path, first)  # every byte is the one before already
        self.assertEqual(sha(path), blank)

    def test_another_disk_of_the_same_size_is_not_taken_for_this_one(self):
        path, other = self.image("quay-desk-2"), self.folder / "other.img"
        self.run_here("mend", path, "boot-code", "--yes")
        data = bytearray(path.read_bytes())
        for at in range(0, len(data), 1 << 20):
            data[at + 1000 : at + 1400] = b"another office's disk   " * 16 + bytes(16)
        step = (len(data) - 4096) // 7
        for number in range(8):
            data[number * step // 512 * 512 + 600] ^= 0xFF
        other.write_bytes(data)
        self.assertEqual(self.json_here("undo", other, "--list")["points"], [])
        self.assertIn("nothing to undo", self.run_here("undo", other, expect=4))


class Keyboard(Shop):
    def talk(self, *words, **more):
        env = {**os.environ, **self.env, "TERM": "xterm-256color"} | more
        child = pexpect.spawn(
            str(PROGRAM), [str(word) for word in words], encoding="utf-8", timeout=20, env=env
        )
        self.addCleanup(child.close)
        return child

    def test_mend_shows_asks_and_takes_no_for_an_answer(self):
        path = self.image("quay-desk-2")
        before = sha(path)
        for answer in "ny":
            child = self.talk("mend", path, "boot-code")
            child.expect("would be written")
            child.expect("Write it now")
            child.sendline(answer)
            child.expect(pexpect.EOF)
            child.close()
            self.assertEqual((child.exitstatus, sha(path) == before), (0, answer == "n"))

    def test_ask_takes_a_number_a_name_or_nothing_and_asks_again_after_nonsense(self):
        case = self.folder / "case"
        self.run_here("open", case, "--quiet")
        child = self.talk("ask", case)
        for word in ("99", "perhaps", "1"):
            child.expect("number or name")
            child.sendline(word)
        child.expect(r"Recorded: ([\w-]+=[\w-]+)")
        seen = self.json_here("cases", self.folder)["cases"][0]["seen"]
        self.assertEqual("=".join(next(iter(seen.items()))), child.match.group(1))

    def test_colour_is_for_terminals_and_can_be_turned_off(self):
        for more, coloured in (({}, True), ({"NO_COLOR": "1"}, False)):
            child = self.talk("trace", self.image("quay-desk-2"), **more)
            child.expect(pexpect.EOF)
            found = re.search("\x1b\\[1;(31|38;5;[0-9]+)m", child.before)
            self.assertEqual(found is not None, coloured)


class Grub(InFolder):
    @needs("sgdisk", "grub-mkimage", Path("/usr/lib/grub/i386-pc/boot.img"))
    def test_bios_may_start_a_gpt_disk_through_grub(self):
        """The core lies in a BIOS boot partition, and sector 0 holds stage one before the
        protective MBR.
        """
        path, core = self.folder / "disk.img", self.folder / "core"
        path.write_bytes(bytes(64 << 20))
        tool("sgdisk", "-n", "1:2048:+1M", "-t", "1:ef02", "-n", "2:8192:0", "-t", "2:8300", path)
        tool(
            "grub-mkimage",
            "-O",
            "i386-pc",
            "-o",
            core,
            "-p",
            "(hd0,gpt2)/boot/grub",
            "biosdisk",
            "part_gpt",
            "ext2",
        )
        stage = bytearray(Path("/usr/lib/grub/i386-pc/boot.img").read_bytes()[:440])
        stage[0x5C:0x64] = (2048).to_bytes(8, "little")
        data = bytearray(core.read_bytes())
        data[0x1F4:0x1FC] = (2049).to_bytes(8, "little")
        patch(path, 0, bytes(stage))
        patch(path, 2048 * SECTOR, bytes(data))
        trace = self.json_here("trace", path)
        found = [finding["id"] for finding in trace["findings"] if finding["severity"] == "fatal"]
        self.assertEqual(
            (trace["firmware"], trace["scheme"], found), ("bios", "gpt", ["grub-prefix-unreadable"])
        )
        self.assertEqual(trace["volumes"][0]["type"], "BIOS boot partition")
        patch(path, 2048 * SECTOR, bytes(SECTOR))
        found = [
            finding["id"]
            for finding in self.json_here("trace", path)["findings"]
            if finding["severity"] == "fatal"
        ]
        self.assertEqual(found, ["grub-core-missing"])


if __name__ == "__main__":
    unittest.main()
