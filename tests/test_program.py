"""The installed program: every document fits its schema, bad input is one sentence, people can work
with it.
"""

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path

import jsonschema
import pexpect

from mending.case import load_case, work
from mending.knowledge import base_pack
from mending.repair.boot import own_code
from mending.workshop import bios_disk, uefi_disk
from tests.support import GRUB_FILES, PROGRAM, InFolder, needs, sha
from tests.systems import INIT, Trees
from tests.test_crashes import OOPS

SOUND = "sound up to boot manager"
"""What is said of sample PCs whose boot manager is a stub: nothing behind it was read."""
UNREAD = "boot-manager-not-checked"
SCHEMAS = Path(__file__).parents[1] / "docs" / "schemas"
HEAVY = (
    "numpy",
    "scipy",
    "pandas",
    "matplotlib",
    "unicorn",
    "rich",
    "msgspec",
    "mending.case",
    "mending.boot",
)


class Workshop(InFolder):
    """One demo for all tests of a class."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        import tempfile  # noqa: PLC0415

        top = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.shop, cls.data = top / "shop", top / "data"
        done = subprocess.run(
            [PROGRAM, "demo", cls.shop, "--json"],
            capture_output=True,
            check=True,
            env={**os.environ, "XDG_DATA_HOME": str(cls.data)},
        )
        cls.demo = json.loads(done.stdout)

    def setUp(self):
        super().setUp()
        self.env["XDG_DATA_HOME"] = str(self.data)  # where the key is that sealed its undo points

    def case(self, name):
        return self.shop / name


class Documents(Workshop, Trees):
    def check(self, *words, expect=0):
        document = self.json_here(*words, expect=expect)
        kind, _, version = document["mending"].partition("/")
        self.assertEqual(version, "1")
        jsonschema.validate(document, json.loads((SCHEMAS / f"{kind}.json").read_text()))
        return document

    def test_every_command_prints_a_document_that_fits_its_schema(self):
        case, image = self.case("quay-desk-2"), self.shop / "images" / "gate-2.img"
        log = self.folder / "serial.log"
        log.write_text(OOPS)
        tree = self.folder_of({**self.with_packages(), "boot/grub/grub.cfg": b"", INIT: b"bad"})
        jsonschema.validate(self.demo, json.loads((SCHEMAS / "demo.json").read_text()))
        for words in (
            ("trace", case),
            ("trace", image),
            ("rehearse", case),
            ("search", case),
            ("causes", case),
            ("plan", case),
            ("ask", case),
            ("work", case),
            ("signs",),
            ("cases", self.shop),
            ("undo", case, "--list"),
            ("open", self.folder / "new", "--disk", image),
            ("saw", self.folder / "new", "logo=shown"),
            ("add", self.folder / "new", __file__),
            ("tried", self.folder / "new", "unplug-extras", "nothing-wrong"),
            ("started", self.folder / "new", "no"),
            ("undo", case),
            ("mend", case, "boot-code", "--dry-run"),
            ("mend", case, "boot-code", "--yes"),
            ("mend", case),
            ("mend", case, "--all", "--yes"),
            ("trace", tree),
            ("files", tree),
            ("mend", tree, "boot-entries", "--dry-run"),
            ("code", "7f"),
            ("crashes", log),
            ("crashes", self.case("slip-desk")),
            ("causes", self.case("slip-desk")),
            ("code", "STOP: 0x1E (0xC0000005,0x1,0x2,0x3)"),
            ("code", "you need to load the kernel first"),
        ):
            with self.subTest(words[0]):
                self.check(*words)
        step = self.check("plan", self.case("bridge-log"))["visits"][0]["steps"][0]["id"]
        self.check("plan", self.case("bridge-log"), "--why", step)
        self.check("plan", self.case("bridge-log"), "--why", "frob", expect=2)
        self.check("frob", expect=2)
        self.check("trace", self.folder / "nothing", expect=3)
        self.check("mend", case, "boot-code", "--yes", expect=4)

    def test_the_demo_ends_as_it_should(self):
        ends = {row["name"]: (row["before"], row["after"]) for row in self.demo["rows"]}
        self.assertEqual(ends["quay-desk-1"], (SOUND, SOUND))
        self.assertEqual(ends["quay-desk-2"], ("stops at boot record", SOUND))
        self.assertEqual(ends["pier-kiosk"], ("no disk to look at", "starts"))
        self.assertEqual(ends["slip-desk"], ("no disk to look at", "starts"))
        self.assertEqual(ends["gate-2"], ("stops at boot record", SOUND))
        self.assertEqual(ends["ticket-hall"], ("stops at firmware", SOUND))
        self.assertEqual(ends["office-1"], ("stops at boot record", SOUND))
        self.assertEqual(ends["purser-1"], (SOUND, SOUND))
        self.assertEqual(ends["mess-room"], ("stops at boot record", SOUND))
        self.assertEqual(ends["chart-room"], ("stops at boot record", "stops at boot record"))
        self.assertEqual(
            next(row["done"] for row in self.demo["rows"] if row["name"] == "purser-2"), "gpt-copy"
        )

    def test_a_sound_disk_behind_a_controller_of_another_mode_is_explained_and_mended(self):
        case = self.case("fog-station")
        row = next(row for row in self.demo["rows"] if row["name"] == "fog-station")
        self.assertEqual(
            (row["before"], row["done"], row["after"]),
            ("no fault found", "driver-start", "no fault found"),
        )
        self.assertEqual(self.json_here("causes", case)["causes"][0]["id"], "setup-forgotten")
        self.assertIn("quaymode", str(self.json_here("trace", case)))
        self.run_here("undo", case)
        steps = [
            step["id"]
            for visit in self.json_here("plan", case, "--all")["visits"]
            for step in visit["steps"]
        ]
        self.assertLess(steps.index("restore-setup"), steps.index("start-storage-driver"))

    def test_check_makes_the_exit_status_speak(self):
        self.run_here("trace", self.case("gangway-1"), "--check")
        self.run_here("trace", self.case("quay-desk-1"), "--check", expect=1)
        self.run_here("trace", self.case("chart-room"), "--check", expect=1)

    def test_pipes_get_plain_text_of_eighty_columns(self):
        shown = self.run_here("trace", self.case("chart-room")) + self.run_here(
            "plan", self.case("chart-room")
        )
        self.assertNotIn("\x1b", shown)
        self.assertLessEqual(max(map(len, shown.splitlines())), 80 + len(str(self.shop)))
        self.assertIn("inside the 1024 bytes of the file", " ".join(shown.split()))


class BadInput(InFolder):
    def assert_refused(self, path):
        words = self.run_here("trace", path, expect=3)
        self.assertTrue(words.startswith("mending: "))
        self.assertLessEqual(len(words.splitlines()), 2)
        self.run_here("open", self.folder / "case", "--disk", path, expect=3)
        self.assertFalse((self.folder / "case").exists())

    def test_what_is_no_disk_is_refused_in_one_sentence_and_nothing_changes(self):
        empty, byte, gone = (self.folder / name for name in ("empty", "byte", "gone"))
        empty.touch()
        byte.write_bytes(b"x")
        for path in (
            empty,
            byte,
            gone,
            self.folder,
            Path("/dev/null"),
            "bad\0name"[:3] + "/" + "x" * 300,
        ):
            with self.subTest(str(path)):
                self.assert_refused(path)

    def test_random_bytes_and_text_are_told_from_disks_and_left_alone(self):
        for name, data in (("noise", os.urandom(5000)), ("text", b"No ferry today.\n" * 400)):
            path = self.folder / name
            path.write_bytes(data)
            words = self.run_here("trace", path, expect=3)
            self.assertIn("is no disk", words)
            self.assertEqual(sha(path), sha(path))
            self.assertEqual(path.read_bytes(), data)

    def test_no_permission(self):
        """An administrator may read everything, so the system's answer is put in."""
        path = self.folder / "locked"
        path.write_bytes(bytes(5000))
        code = (
            "import os, sys; from mending.cli import main\n"
            "def no(*a, **k): raise PermissionError(13, 'Permission denied')\n"
            f"os.open = no; sys.argv = ['mending', 'trace', {str(path)!r}]; main()"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.returncode, 3)
        self.assertIn("may not be opened by this account", done.stderr)

    def test_a_file_that_vanishes_or_shrinks_while_it_is_read(self):
        path = self.folder / "vanishing"
        path.write_bytes(bytes(510) + b"\x55\xaa" + bytes(5000))
        code = (
            "import os, sys; from mending.cli import main\n"
            "def gone(*a): raise FileNotFoundError(2, 'No such file or directory')\n"
            f"os.pread = gone; sys.argv = ['mending', 'trace', {str(path)!r}]; main()"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual((done.returncode, "Traceback" in done.stderr), (3, False))

    def test_control_characters_of_a_name_never_reach_the_terminal(self):
        words = self.run_here("trace", self.folder / "a\x1b[31mred", expect=3)
        self.assertNotIn("\x1b", words)

    def test_mistyped_words_are_met_with_the_nearest_known_one(self):
        self.run_here("open", self.folder / "case")
        self.assertIn(
            "Did you mean lock-key?",
            self.run_here("saw", self.folder / "case", "lok-key=dead", expect=2),
        )
        self.assertIn(
            "Did you mean toggles?",
            self.run_here("saw", self.folder / "case", "lock-key=toggle", expect=2),
        )
        self.assertIn(
            "Did you mean test-memory?",
            self.run_here("tried", self.folder / "case", "tst-memory", "mended", expect=2),
        )


class StartUp(unittest.TestCase):
    def test_help_imports_nothing_heavy(self):
        code = "import sys; sys.argv = ['mending', '--help']\n"
        code += "try:\n    from mending.cli import main; main()\nfinally:\n    print(*sys.modules)"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        loaded = set(done.stdout.splitlines()[-1].split())
        self.assertEqual([name for name in HEAVY if name in loaded], [])


EXTRAS = ("unicorn", "matplotlib", "evtx", "scipy")
NO_POSIX = """
import os, signal, sys
sys.modules.update(dict.fromkeys(("fcntl", "grp", "pwd", "resource", "termios")))
for module, names in (
    (os, "fork setsid geteuid fchown pread preadv pwrite posix_fadvise fdatasync statvfs"),
    (os, "O_CLOEXEC O_DIRECTORY O_NOCTTY O_NOFOLLOW O_NONBLOCK SEEK_DATA SEEK_HOLE getxattr major"),
    (signal, "SIGALRM SIGHUP SIGKILL SIGPIPE alarm setitimer pthread_sigmask"),
):
    for name in names.split():
        delattr(module, name)
"""
"""What only POSIX has, and what Linux has beyond it, taken away before anything is loaded; the
package for locks tells systems apart by their names, so `fchmod` stays for it."""


class WithoutExtras(InFolder):
    """A base install knows less and says so; it calls nothing faulty that it cannot see."""

    def run_bare(self, *words, hidden="", status=None):
        hidden = hidden or f"import sys; sys.modules.update(dict.fromkeys({EXTRAS}))\n"
        code = (
            f"{hidden}sys.argv = {['mending', *map(str, words)]!r}\nfrom mending.cli import main;"
            " main()"
        )
        done = subprocess.run(
            [sys.executable, "-c", code],
            capture_output=True,
            text=True,
            env={**os.environ, **self.env, "COLUMNS": "120"},
        )
        if status is not None:
            self.assertEqual(done.returncode, status, (words, done.stdout, done.stderr))
        return done

    def test_all_but_what_works_on_a_disk_runs_where_posix_is_missing(self):
        image, case, log = (self.folder / name for name in ("gate.img", "gate", "kernel.log"))
        bios_disk(own_code()).save(image)
        log.write_text("Mar  2 08:10:00 gate kernel: Kernel panic - not syncing: Fatal exception\n")
        for words in (
            ("open", case, "--disk", image, "--quiet"),
            ("saw", case, "the screen stays black, no logo", "--quiet"),
            ("ask", case),
            ("add", case, log),
            ("causes", case),
            ("plan", case, "--how"),
            ("tried", case, "unplug-extras", "not-mended"),
            ("started", case, "no"),
            ("work", case, "--json"),
            ("code", "0x7b"),
            ("crashes", log),
            ("trace", image),
            ("report", case, "--output", self.folder / "gate.md"),
            ("signs",),
            ("help", "phases"),
        ):
            self.run_bare(*words, hidden=NO_POSIX, status=0)
        seen = self.run_bare("trace", image, "--json", hidden=NO_POSIX).stdout
        self.assertEqual(json.loads(seen)["verdict"], self.json_here("trace", image)["verdict"])
        with image.open("r+b") as file:
            file.write(bytes(440))
        for words, what in (
            (("mend", image, "boot-code", "--yes"), "Writing to a disk"),
            (("copy", image, self.folder / "copy.img"), "Copying a drive"),
            (("trace", self.folder), "Reading a mounted system"),
        ):
            told = self.run_bare(*words, hidden=NO_POSIX).stderr
            self.assertRegex(told, f"^mending: {what} needs an operating system with POSIX calls")
            self.assertNotIn("Traceback", told)

    @needs("sfdisk", "mke2fs", "grub-mkimage", GRUB_FILES / "boot.img")
    def test_what_cannot_be_read_is_said_and_the_rest_says_what_to_install(self):
        for name, draft in (("uefi", uefi_disk()), ("bios", bios_disk(own_code()))):
            path = self.folder / f"{name}.img"
            draft.save(path)
            trace = json.loads(self.run_bare("trace", path, "--json").stdout)
            self.assertEqual((trace["verdict"], trace["failing_phase"]), ("unsure", None))
        trace = json.loads(self.run_bare("trace", self.ext_started_by_grub(), "--json").stdout)
        found = [finding["id"] for finding in trace["findings"]]
        self.assertEqual(
            (trace["failing_phase"], trace["volumes"][0]["role"], found),
            (
                None,
                "system-partition",
                ["active-flag-unset", "root-not-checked"],
            ),
        )
        self.run_bare("open", self.folder / "case", "--quiet", status=0)
        for command, extra in (
            (("rehearse", path), "rehearse"),
            (("plan", self.folder / "case", "--proof"), "proof"),
            (("trace", path, "--figure", self.folder / "a.png"), "figures"),
        ):
            done = self.run_bare(*command)
            self.assertEqual(done.returncode, 2)
            self.assertIn(f"extra `{extra}`", done.stderr)
        done = self.run_bare("demo", self.folder / "shop", "--brief")
        self.assertEqual(done.returncode, 0, done.stderr)
        shown = " ".join(done.stdout.split())
        self.assertIn("mess-room stops at boot record boot-sector sound up to boot manager", shown)
        for image in sorted((self.folder / "shop/images").glob("*.img")):
            bare = json.loads(self.run_bare("trace", image, "--json").stdout)
            whole = self.json_here("trace", image)
            with self.subTest(image.name):
                self.assertEqual(bare["failing_phase"], whole["failing_phase"])
                self.assertEqual(bare["verdict"], whole["verdict"])


class ClosedPipes(unittest.TestCase):
    def test_nobody_who_reads_is_no_fault_of_ours(self):
        for stream, words, status in (
            ("stdout", ("trace", "/nothing", "--json"), 3),
            ("stderr", ("trace", "/nothing"), 3),
            ("stderr", ("no-command",), 2),
            ("stdout", ("signs",), 1),
            ("stdout", ("code", "0x7b", "--json"), 1),
        ):
            reading, writing = os.pipe()
            os.close(reading)
            streams = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, stream: writing}
            with self.subTest(stream=stream, words=words):
                done = subprocess.run([PROGRAM, *words], check=False, **streams)
                told = (done.stdout or b"") + (done.stderr or b"")
                self.assertEqual((done.returncode, told), (status, b""))
            os.close(writing)


class AtTheKeyboard(Workshop):
    def talk(self, *words):
        child = pexpect.spawn(
            str(PROGRAM),
            [str(word) for word in words],
            encoding="utf-8",
            timeout=20,
            env={**os.environ, **self.env},
        )
        self.addCleanup(child.close)
        return child

    def test_open_asks_a_few_things_and_unknown_is_an_answer(self):
        child = self.talk("open", self.folder / "case")
        child.expect("What kind of PC")
        child.sendline("laptop")
        for _ in range(7):
            child.expect("number or name")
            child.sendline("")
        child.expect("word for word")
        child.sendline("no\x1b[31m system")
        for _ in range(2):
            child.sendline("")
        child.expect(pexpect.EOF)
        record = (self.folder / "case" / "record.jsonl").read_text().splitlines()
        case = json.loads(record[0])["events"][0]
        self.assertEqual((case["facts"]["form"], case["facts"]["backup"]), ("laptop", "unknown"))
        self.assertNotIn("\x1b", case["notes"]["screen"])

    def test_what_was_understood_is_confirmed_or_corrected(self):
        case = self.folder / "ferry"
        self.run_here("open", case, "--quiet")
        child = self.talk("saw", case, "the fans run, and it beeps three times")
        child.expect("1 fans-lights=normal, 2 beeps=pattern")
        child.expect("Enter keeps it")
        child.sendline("7")
        child.expect("numbers from 1 to 2")
        child.sendline("2")
        child.expect(pexpect.EOF)
        self.assertEqual(load_case(case).state.seen, {"fans-lights": "normal"})

    def test_closing_asks_for_cause_and_fix_and_what_is_to_be_put_back(self):
        case = self.folder / "ferry"
        self.run_here("open", case, "--quiet")
        self.run_here("tried", case, "turn-driver-off", "done")
        self.run_here("started", case, "yes")
        child = self.talk("close", case)
        said = [("Does it hold", "yes")]
        said += [("Is that done", "y") for _ in work.to_put_back(load_case(case), base_pack())]
        said += [("What was wrong", "1"), ("What mended it", "turn-driver-off"), ("Minutes", "")]
        for asked, answer in said:
            child.expect(asked)
            child.sendline(answer)
        child.expect(pexpect.EOF)
        closed = load_case(case).state.closed
        self.assertEqual(closed.fix, "turn-driver-off")
        self.assertIn(closed.cause, base_pack().causes)


class Manners(InFolder):
    """What annoyed at a trial."""

    def test_the_name_alone_shows_the_help(self):
        shown = self.run_here()
        self.assertIn("Commands:\n", shown)
        self.assertGreater(shown.count("\n"), 20)

    def test_a_folder_that_is_not_there_holds_no_cases(self):
        said = self.run_here("cases", self.folder / "nowhere", expect=3)
        self.assertIn("There is no folder", said)
        self.assertIn("No cases here", self.run_here("cases", self.folder))

    def test_a_file_of_unknown_kind_is_not_added_without_a_word(self):
        case, blob = self.folder / "case", self.folder / "blob"
        blob.write_bytes(bytes(range(256)) * 12)
        self.run_here("open", case, "--quiet")
        said = self.run_here("add", case, blob)
        self.assertIn("was not recognised", said)


if __name__ == "__main__":
    unittest.main()
