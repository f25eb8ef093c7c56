"""The report: one self-contained page, harmless whatever the evidence says, and readable in a
browser.
"""

import json
import re
import tempfile
import unittest
from html.parser import HTMLParser
from pathlib import Path

import jsonschema

from mending.workshop import UEFI_FAULTS, uefi_disk
from tests.support import InFolder, needs, tool

SCHEMA = Path(__file__).parents[1] / "docs" / "schemas" / "report.json"
NASTY = "<script>alert(1)</script> \x1b[31m & \u202eferry"


class Tags(HTMLParser):
    def __init__(self):
        super().__init__()
        self.tags, self.links, self.text = [], [], []

    def handle_starttag(self, tag, attrs):
        self.tags.append(tag)
        self.links += [value for name, value in attrs if name in ("src", "href")]

    def handle_data(self, data):
        self.text.append(data)


class Page(InFolder):
    def setUp(self):
        super().setUp()
        draft = uefi_disk()
        UEFI_FAULTS["blank-efi-boot-sector"](draft)
        draft.save(self.folder / "mess-room.img")
        self.case, self.page = self.folder / "mess-room", self.folder / "page.html"
        self.run_here(
            "open",
            self.case,
            "--disk",
            self.folder / "mess-room.img",
            "--screen",
            NASTY,
            "--fact",
            "form=laptop",
        )
        self.run_here(
            "tried",
            self.case,
            "test-drive",
            "nothing-wrong",
            "--code",
            "2000-0142",
            "--note",
            NASTY,
        )

    def read(self):
        self.run_here("report", self.case, "-o", self.page)
        parsed = Tags()
        parsed.feed(self.page.read_text())
        return parsed, re.sub(r"\s+", " ", " ".join(parsed.text))

    def test_it_holds_everything_and_fetches_nothing(self):
        parsed, text = self.read()
        for words in (
            "The disk stops at: boot record",
            "offset 1048576",
            "512 x 00",
            "boot-sector-damaged",
            "restore-boot-sector",
            "test-drive",
            "2000-0142",
            "Undo points",
            "nothing has been written",
            "not reached",
            "laptop",
        ):
            self.assertIn(words, text)
        self.assertEqual(parsed.links, [])
        self.assertFalse({"script", "img", "iframe", "link"} & set(parsed.tags))
        self.assertNotIn(str(self.folder), text)

    def test_evidence_is_escaped_and_freed_of_control_characters(self):
        page = (self.read(), self.page.read_text())[1]
        self.assertIn("&lt;script&gt;", page)
        self.assertFalse({"\x1b", "\u202e"} & set(page))

    def test_after_a_repair_it_shows_the_undo_point_and_a_start_that_works(self):
        self.run_here("mend", self.case, "--all", "--yes")
        self.run_here("started", self.case, "yes")
        _, text = self.read()
        self.assertIn("The PC starts again.", text)
        self.assertRegex(text, r"\d{8}T\d{6}-boot-sector")

    def test_codes_words_a_watch_and_the_end_are_on_it(self):
        self.run_here("saw", self.case, "code=0x7b", "the fans run, <b>the moon</b> is full")
        self.run_here("started", self.case, "watch", "--hours", "9")
        page = (self.read(), self.page.read_text())[1]
        for words in ("0x0000007B", "&lt;b&gt;the moon", "under watch: 9 hours so far"):
            self.assertIn(words, page)
        self.run_here("started", self.case, "yes")
        self.run_here("close", self.case, "--cause", "dust", "--fix", "a brush")
        self.assertIn("put right by a brush", self.read()[1])

    def test_only_an_older_report_is_replaced(self):
        document = self.json_here("report", self.case, "-o", self.page)
        jsonschema.validate(document, json.loads(SCHEMA.read_text()))
        self.run_here("report", self.case, "-o", self.page)
        self.page.write_text("a letter")
        self.assertIn("no report", self.run_here("report", self.case, "-o", self.page, expect=4))
        self.assertEqual(self.page.read_text(), "a letter")
        self.run_here(
            "report", self.case, "-o", self.folder / "no" / "such" / "page.html", expect=3
        )

    @needs("chromium")
    def test_a_browser_shows_and_prints_it(self):
        self.read()
        with tempfile.TemporaryDirectory() as profile:
            words = [
                "chromium",
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--disable-quic",
                "--no-first-run",
            ]
            words += [
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-sync",
                f"--user-data-dir={profile}",
            ]
            shown = tool(*words, "--dump-dom", f"file://{self.page}")
            tool(*words, f"--print-to-pdf={self.folder}/page.pdf", f"file://{self.page}")
            tool(
                *words,
                "--window-size=1280,800",
                f"--screenshot={self.folder}/page.png",
                f"file://{self.page}",
            )
        self.assertIn("<h2>Findings</h2>", shown)
        self.assertTrue((self.folder / "page.pdf").read_bytes().startswith(b"%PDF"))
        self.assertGreater((self.folder / "page.png").stat().st_size, 20000)


if __name__ == "__main__":
    unittest.main()
