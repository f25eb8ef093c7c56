"""Every reader of `formats/`, streams included: any bytes give a record or our own error."""

import importlib
import io
import sys
import tempfile
import unittest
from pathlib import Path

from benchmarks.guided_calls import HEAD, attempt
from benchmarks.recorded_calls import input_of
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import mending.formats
from mending.disk.layout import Scheme
from mending.formats import event_log, journal
from mending.model import InputError, MendingError, Window
from tests.readers import calls_of, drained, readers_of

FAULTY = '''
"""A reader that trusts a length on the disk."""


def read(data: bytes) -> int:
    """The byte that the first byte points at."""
    return data[data[0]] if data else 0
'''


def try_reader(module, function, examples=60):
    """Fails with the first input that makes the reader raise anything that is not ours."""

    @given(calls_of(module, function))
    @settings(
        max_examples=examples,
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
    )
    def attempt(arguments):
        try:
            drained(function(**arguments))
        except MendingError:
            return

    attempt()


class Readers(unittest.TestCase):
    def test_every_reader_gives_a_record_or_our_error(self):
        tried = set()
        for module, function in readers_of(mending.formats):
            name = f"{module.__name__.removeprefix('mending.formats.')}.{function.__name__}"
            tried.add(name)
            with self.subTest(name):
                try_reader(module, function)
        modules = {name.partition(".")[0] for name in tried}
        self.assertEqual(len(modules), 30)
        for stream in ("journal.read_json", "dumps.read"):
            self.assertIn(stream, tried)

    def test_the_guided_fuzzer_makes_a_call_of_every_reader_from_every_head(self):
        for module, function in readers_of(mending.formats):
            call = attempt(function)
            for head in (0, 1, 2, 3, 255):
                with self.subTest(f"{module.__name__}.{function.__name__}", head=head):
                    call(bytes([head]) * HEAD + b"Skerrivane\n" * 50)

    def test_a_call_that_was_watched_is_made_again_from_its_input(self):
        made = []

        def read(
            window: Window,
            number: int,
            scheme: Scheme,
            rows: tuple[int, ...],
            most: int | None = None,
        ) -> None:
            made.append(
                {"window": window, "number": number, "scheme": scheme, "rows": rows, "most": most}
            )

        for number, most in ((0, None), (255, 7), (256, None), (1 << 40, 1 << 33)):
            call = {
                "window": Window(b"Skerrivane"),
                "number": number,
                "scheme": Scheme.GPT,
                "rows": (3, number),
                "most": most,
            }
            attempt(read)(input_of(read, call))
            self.assertEqual(made.pop(), call)
        self.assertIsNone(input_of(read, {**call, "number": -1}))
        self.assertIsNone(input_of(read, {**call, "rows": tuple(range(9))}))

    def test_a_new_reader_is_found_and_tried_without_a_list(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "newformats").mkdir()
        (folder / "newformats/__init__.py").write_text('"""Formats."""\n')
        (folder / "newformats/berth.py").write_text(FAULTY)
        sys.path.insert(0, str(folder))
        self.addCleanup(sys.path.remove, str(folder))
        found = list(readers_of(importlib.import_module("newformats")))
        self.assertEqual([function.__qualname__ for _, function in found], ["read"])
        with self.assertRaises(IndexError):
            try_reader(*found[0])


class Streams(unittest.TestCase):
    def test_an_export_of_events_in_an_encoding_that_is_not_known(self):
        for encoding in ("uyf-8", "zlib", "utf-32", "idna", "undefined"):
            text = f'<?xml version="1.0" encoding="{encoding}"?><Events><Event/></Events>'
            with self.subTest(encoding), self.assertRaises(InputError):
                list(event_log.read_xml(io.BytesIO(text.encode())))

    def test_a_journal_of_json_with_bytes_that_are_no_text(self):
        @given(st.binary(max_size=40))
        def attempt(data):
            line = b'{"__REALTIME_TIMESTAMP":"1","MESSAGE":"' + data + b'"}\n'
            list(journal.read_json(io.BytesIO(line)))

        attempt()


if __name__ == "__main__":
    unittest.main()
