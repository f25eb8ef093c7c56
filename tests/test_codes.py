"""Codes and messages: every row is found by what people type, and sentences that mean nothing find
nothing.
"""

import random
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.crash.lookup import look_up
from mending.knowledge import base_codes, base_pack, load_codes
from mending.model import InputError
from tests.support import InFolder

CODES = base_codes()
PACK = Path(__file__).parents[1] / "src" / "mending" / "knowledge" / "packs" / "base"
SCREENS = (
    (
        "Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)",
        "Linux",
        "loader",
    ),
    ("error: no such device: 5ea00000-0000-4000-8000-00000000c0de.", "GRUB", "boot-manager"),
    ("error: file `/boot/vmlinuz-6.1' not found.", "GRUB", "loader"),
    ("ALERT!  UUID=5ea0 does not exist.  Dropping to a shell!", "initramfs", "kernel"),
    ("Gave up waiting for root file system device.", "initramfs", "kernel"),
    ("You are in emergency mode. After logging in, type journalctl", "systemd", "session"),
    (
        "panic(cpu 2 caller 0xffffff8012): Kernel trap at 0xffffff8011, type 14=page fault",
        "Darwin",
        "session",
    ),
    ("Error loading operating system", "boot record", "boot-record"),
    ("Reboot and Select proper Boot device", "firmware", "firmware"),
    ("[    1.2] Kernel panic - not syncing: No working init found.", "Linux", "kernel"),
    ("BdsDxe: No bootable option or device was found.", "firmware", "firmware"),
)


def first(text):
    found = look_up(text, CODES).matches
    return found[0] if found else None


READ_OUT = (
    ("unable to mount root", "Linux", "kernel"),
    ("boot failure", "firmware", "firmware"),
    ("access denied", "a recovery prompt", "loader"),
    ("kernel panic", "Linux", "kernel"),
    ("your device ran into a problem and has to restart", "a stop screen", "kernel"),
    ("the computer restarted because of a problem", "a darwin system", "session"),
    ("startup repair could not repair it", "startup repair", "loader"),
    ("working on updates 35%", "an update", "session"),
)
"""Key words of what callers read out, with who shows them and where the start fails then."""


class ReadOut(unittest.TestCase):
    def test_key_words_that_callers_read_out_say_what_they_tell(self):
        for text, by, phase in READ_OUT:
            with self.subTest(text):
                first = look_up(text, CODES).matches[0]
                self.assertEqual((first.name, first.phase), (by, phase))

    def test_what_messages_imply_are_answers_of_the_signs(self):
        signs = base_pack().signs
        for message in CODES.messages:
            for name, answer in message.implies.items():
                self.assertIn(answer, signs[name].answers, message.pattern)

    def test_a_name_in_plain_words_is_no_better_than_a_message(self):
        first, *others = look_up("access denied", CODES).matches
        self.assertEqual(first.kind, "message")
        self.assertIn("STATUS_ACCESS_DENIED", [match.name for match in others])
        self.assertEqual(look_up("STATUS_ACCESS_DENIED", CODES).matches[0].kind, "status")


class Rows(unittest.TestCase):
    def test_every_row_is_found_by_number_and_name(self):
        self.assertGreater(
            min(len(CODES.stops) / 150, len(CODES.statuses) / 50, len(CODES.messages) / 75), 1
        )
        for kind, table in (("stop", CODES.stops), ("status", CODES.statuses)):
            for number, row in table.items():
                for text in (
                    f"0x{number:08X}",
                    f"{number:#x}",
                    row.name,
                    row.name.lower().replace("_", " "),
                ):
                    kinds = [
                        (match.kind, match.name)
                        for match in look_up(text, CODES).matches
                        if match.confidence == "certain" or match.because.startswith("the name as")
                    ]
                    self.assertIn((kind, row.name), kinds, text)
                self.assertTrue(row.says.endswith(".") and row.source and row.sure)

    def test_names_with_typos_and_lost_words(self):
        draw, hits, tries = random.Random(5), 0, 0
        for row in CODES.stops.values():
            words = row.name.split("_")
            if len(words) < 3:
                continue
            name = list(" ".join(words).lower())
            name[draw.randrange(len(name))] = draw.choice("aeiourst")
            del name[draw.randrange(len(name))]
            tries += 1
            hits += row.name in [match.name for match in look_up("".join(name), CODES).matches]
        self.assertGreater(hits / tries, 0.97)

    def test_what_screens_show(self):
        for text, by, phase in SCREENS:
            match = first(text)
            self.assertEqual(
                (match.kind, match.name, match.phase, match.confidence),
                ("message", by, phase, "certain"),
                text,
            )


class Readings(unittest.TestCase):
    def test_the_ways_in_which_a_number_is_written(self):
        for text in (
            "7f",
            "7F",
            "0x7f",
            "0x0000007F",
            "stop 7f",
            "STOP: 0x0000007F (0x8,0x0,0x0,0x0)",
            "1000007f",
        ):
            self.assertEqual(first(text).name, "UNEXPECTED_KERNEL_MODE_TRAP", text)
        self.assertIn("flag", first("0x1000007e").because)
        self.assertEqual(
            (first("126").name, first("126").confidence),
            ("SYSTEM_THREAD_EXCEPTION_NOT_HANDLED", "possible"),
        )

    def test_parameters_are_read_and_status_codes_in_them_explained(self):
        match = first("*** STOP: 0x0000001E (0xC0000005,0xFFFFF80002A1B2C3,0x0,0x8)")
        self.assertIn("STATUS_ACCESS_VIOLATION", match.parameters[0].means)
        self.assertEqual([parameter.number for parameter in match.parameters], [1, 2, 3, 4])
        volume = first("0x0000007B (0xFFFFF880009A9928,0xC0000034,0x0,0x0)")
        self.assertIn("STATUS_OBJECT_NAME_NOT_FOUND", volume.parameters[1].means)
        unknown = first("0x00000036 (0x1,0x2,0x3,0x4)")
        self.assertEqual({parameter.means for parameter in unknown.parameters}, {""})

    def test_two_short_words_of_a_name_in_a_sentence_are_no_name(self):
        for text in ("device not found", "file not found on it", "it said folder not found"):
            kinds = {found.confidence for found in look_up(text, CODES).matches if found.code}
            self.assertLessEqual(kinds, {"possible"}, text)
        self.assertEqual(first("not found").name, "STATUS_NOT_FOUND")
        self.assertEqual(first("irql not less or equal it says").code, "0x0000000A")

    def test_words_that_mean_nothing_find_nothing(self):
        for text in (
            "the cat sat on the mat in 2026",
            "no error",
            "failed",
            "the ferry leaves at 8",
            "0x123456",
            "!!!",
        ):
            self.assertEqual(look_up(text, CODES).matches, (), text)

    @given(st.text(max_size=300))
    @settings(max_examples=80, deadline=None)
    def test_any_text_is_read(self, text):
        self.assertLessEqual(len(look_up(text, CODES).matches), 5)


class Command(InFolder):
    def test_it_answers_in_sentences(self):
        says = " ".join(self.run_here("code", "inaccessable", "boot", "devise").split())
        for wanted in (
            "0x0000007B INACCESSIBLE_BOOT_DEVICE",
            "cannot get at the volume",
            "look first at",
            "likely: ",
        ):
            self.assertIn(wanted, says)
        self.assertIn("Nothing in this text is known", self.run_here("code", "hello"))
        self.assertNotIn("\x1b", self.run_here("code", "\x1b]0;x\x07 0x7b \x1b[2J"))
        self.run_here("code", expect=2)


class Tables(unittest.TestCase):
    def test_faults_are_named_with_their_place(self):
        rows = (
            ("stops", 'name = "APC_INDEX_MISMATCH"', 'nome = "APC"', "stops.toml, row 1"),
            ("stops", "number = 0x05,", "number = 0x01,", "used twice"),
            ("statuses", 'suspects = ["driver", "memory"]', 'suspects = ["gremlins"]', "gremlins"),
            (
                "messages",
                'pattern = "not a bootable disk"',
                'pattern = "not ("',
                "message 2: the pattern is none",
            ),
            ("suspects", "memory =", "memories =", "exactly these"),
            ("messages", "causes = { ", "causes = { gremlins = 1, ", "no cause 'gremlins'"),
            ("statuses", 'family = "nt"', 'family = "vms"', "no family 'vms'"),
        )
        for name, found, instead, wanted in rows:
            with tempfile.TemporaryDirectory() as folder:
                for path in PACK.glob("*.toml"):
                    text = path.read_text()
                    changed = text.replace(found, instead, 1) if path.stem == name else text
                    (Path(folder) / path.name).write_text(changed)
                with self.assertRaisesRegex(InputError, wanted):
                    load_codes(Path(folder))


if __name__ == "__main__":
    unittest.main()
