"""What a command may take: memory, and time where it only reads; and what is shown meanwhile."""

import subprocess
import sys
import unittest
from pathlib import Path

import pexpect

from mending.app.targets import MOST_MEMORY, within_bounds
from mending.model import InputError, MendingError, TookTooMuchError
from mending.repair.boot import own_code
from mending.workshop import make_sample, samples
from tests.support import InFolder

SLOW = """
import os, sys, time
from mending.app import targets
from mending.cli import main
pread = os.pread
def slowly(*words):
    time.sleep({pause})
    return pread(*words)
os.pread = slowly
targets.within_bounds.__wrapped__.__defaults__ = {bounds}
main()
"""
"""A drive that takes its time over every read."""


def run_words(words):
    done = subprocess.run(words, capture_output=True, text=True, timeout=300, check=False)
    return done.returncode, done.stdout, done.stderr


class Bounds(InFolder):
    def setUp(self):
        super().setUp()
        sample = next(each for each in samples(own_code()) if each.name == "quay-desk-1")
        self.image = make_sample(sample, self.folder)

    def slowly(self, *words, pause=0.05, seconds=900, memory=MOST_MEMORY):
        program = SLOW.format(pause=pause, bounds=(seconds, memory, 0.1))
        return [sys.executable, "-c", program, *map(str, words)]

    def test_reading_without_an_end_is_ended_with_a_sentence(self):
        status, said, error = run_words(self.slowly("trace", self.image, seconds=0.7))
        self.assertEqual((status, said), (3, ""))
        self.assertIn("was read for 0 minutes without an end, and nothing is known of it.", error)
        self.assertIn("copy it first", error)
        status, _, error = run_words(self.slowly("crashes", self.image, seconds=0.7))
        self.assertEqual(status, 3, error)

    def test_nothing_that_gets_past_damage_gets_past_the_end_of_time(self):
        self.assertFalse(issubclass(TookTooMuchError, InputError | OSError))
        self.assertTrue(issubclass(TookTooMuchError, MendingError))
        with self.assertRaises(TookTooMuchError), within_bounds("a disk", 0.05, pause=0.01):
            while True:
                pass
        with within_bounds("a disk", 60):
            pass

    def test_a_command_gets_no_more_memory_than_stated(self):
        words = self.slowly("trace", self.image, pause=0.02, memory=1 << 20)
        status, said, error = run_words(words)
        self.assertEqual((status, said), (3, ""))
        self.assertIn("more than the 1 MiB of memory that a command may take", error)

    def test_a_slow_drive_is_shown_at_a_terminal_and_not_in_a_pipe(self):
        words = self.slowly("trace", self.image)
        status, _, error = run_words(words)
        self.assertEqual((status, error), (0, ""))
        with pexpect.spawn(words[0], words[1:], dimensions=(24, 80), timeout=60) as terminal:
            terminal.expect(rb"quay-desk-1.img: (firmware|boot \w+), [\d.]+ \w+ in 0:0\d")
            terminal.expect("verdict")
            terminal.expect(pexpect.EOF)
        self.assertFalse(Path(self.folder / "core").exists())


if __name__ == "__main__":
    unittest.main()
