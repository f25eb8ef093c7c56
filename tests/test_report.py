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

from mending.boot.rehearse import screen_lines
from mending.repair.boot import own_code
from mending.workshop import UEFI_FAULTS, make_sample, samples, uefi_disk
from tests.samples import CHECKER
from tests.support import InFolder, needs, tool

SCHEMA = Path(__file__).parents[1] / "docs" / "schemas" / "report.json"
HAND_OVER = SCHEMA.with_name("hand-over.json")
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
        self.assertFalse({"script", "img", "iframe", "link", "object"} & set(parsed.tags))
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
        said = self.run_here("report", self.case, "-o", self.page, expect=4)
        self.assertIn("there already", said)
        self.assertEqual(self.page.read_text(), "a letter")
        deep = self.folder / "no" / "such" / "page.html"
        self.run_here("report", self.case, "-o", deep)
        self.assertTrue(deep.exists())

    def test_what_was_believed_is_drawn_whatever_the_evidence_is_called(self):
        self.run_here("saw", self.case, "code=0x7b", "logo=shown")
        for ending, head in (("png", b"\x89PNG"), ("svg", b"<?xml"), ("pdf", b"%PDF")):
            picture = self.folder / f"causes.{ending}"
            self.run_here("causes", self.case, "--figure", picture)
            self.assertTrue(picture.read_bytes().startswith(head), ending)
        self.run_here("causes", self.case, "--figure", self.folder / "causes.txt", expect=2)

    def test_a_mended_case_shows_the_disk_as_found_and_as_it_is_now(self):
        self.run_here("mend", self.case, "--all", "--yes")
        text = self.read()[1]
        for words in ("As found", "As it is now", "gone", "likeliest after it"):
            self.assertIn(words, text)


SHOP = {
    "ticket": "SKF-20931",
    "user": "Ragna Holmquist",
    "maker": "Tidewell",
    "model": "Quayside 14",
    "serial": "SN-77Q-2214",
    "technician": "Odd Berge",
}
CHROMIUM = [
    "chromium",
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
LOG = """\
Mar  2 09:14:01 ragnas-desk kernel: BUG: unable to handle page fault for address: 0000000000000010
Mar  2 09:14:01 ragnas-desk kernel: RIP: 0010:tide_read+0x10/0x40 [tidecard]
Mar  2 09:14:01 ragnas-desk kernel: Kernel panic - not syncing: Fatal exception in interrupt
"""


def faults_in(page, folder, width):
    """What the checker of accessibility finds in a page, and errors of scripts."""
    checked = folder / "checked.html"
    script = CHECKER.read_text()
    run = (
        "<script>window.addEventListener('error', e => window.faults = (window.faults||'')"
        " + e.message); axe.run().then(found => { document.title = 'CHECKED ' +"
        " JSON.stringify(found.violations.map(v => [v.impact, v.id,"
        " v.nodes.map(n => n.html).slice(0, 2)])) + (window.faults || ''); });</script>"
    )
    page = re.sub(r"<meta http-equiv=[^>]*>", "", page)
    checked.write_text(page.replace("</body>", f"<script>{script}</script>{run}</body>"))
    with tempfile.TemporaryDirectory() as profile:
        words = [*CHROMIUM, f"--user-data-dir={profile}", f"--window-size={width},800"]
        shown = tool(*words, "--virtual-time-budget=8000", "--dump-dom", f"file://{checked}")
    return re.search(r"<title>(.*?)</title>", shown, re.DOTALL).group(1)


class Rehearsals(InFolder):
    def test_a_screen_has_no_more_lines_than_fit_on_it_and_none_reaches_into_the_terminal(self):
        printed = "".join(f"line {number}\x1b[2J\r\n" for number in range(5000))
        lines = screen_lines(printed)
        self.assertEqual((len(lines), lines[-1]), (25, "line 4999[2J"))
        self.assertEqual(screen_lines("x" * 300_000), ("x" * 79 + "…",))

    @needs("chromium", CHECKER)
    def test_screens_of_rehearsals_stand_in_the_report_as_found_and_as_they_are_now(self):
        sample = next(each for each in samples(own_code()) if each.name == "quay-desk-2")
        disk, case = make_sample(sample, self.folder), self.folder / "quay-desk-2"
        self.run_here("open", case, "--disk", disk)
        blank = self.json_here("rehearse", case)
        self.run_here("mend", case, "boot-code", "--yes")
        page = self.folder / "page.html"
        self.run_here("report", case, "-o", page)
        self.assertNotIn("As it is now: it", page.read_text())
        self.run_here("rehearse", case)
        self.run_here("report", case, "-o", page)
        shown = page.read_text()
        self.assertEqual(blank["stopped"], "fault")
        self.assertIn("As found: the processor cannot go on; no boot sector was started", shown)
        self.assertIn("As it is now: it came to rest by itself; a boot sector was started", shown)
        self.assertIn(">Skerrivane Ferries: ticket desk loader reached.</text>", shown)
        self.assertEqual(shown.count('class="rung failed"'), 1)
        self.assertEqual(faults_in(shown, self.folder, 400), "CHECKED []")
        text = self.folder / "page.md"
        self.run_here("report", case, "-o", text, "--format", "md", "--redact")
        self.assertIn("| boot record | failed | passed |", text.read_text())
        self.assertIn("> Skerrivane Ferries: ticket desk loader reached.", text.read_text())
        self.run_here("started", case, "yes")
        closing = ("--cause", "boot-code-damaged", "--fix", "restore-boot-code")
        self.run_here("close", case, *closing)
        record = (case / "record.jsonl").read_bytes()
        self.run_here("rehearse", case)
        self.assertEqual((case / "record.jsonl").read_bytes(), record)


class Readers(InFolder):
    """The same case for each of its readers."""

    @classmethod
    def setUpClass(cls):
        """One case for all tests, which only read it."""
        super().setUpClass()
        cls.kept = cls.enterClassContext(tempfile.TemporaryDirectory())
        maker = cls("make")
        maker.setUp()
        maker.folder = Path(cls.kept)
        maker.make()
        maker.doCleanups()

    def setUp(self):
        super().setUp()
        self.case = Path(self.kept) / "ragnas-case"

    def make(self):
        draft = uefi_disk()
        UEFI_FAULTS["blank-efi-boot-sector"](draft)
        self.disk = self.folder / "ragnas-laptop.img"
        draft.save(self.disk)
        self.case = self.folder / "ragnas-case"
        shop = [word for name, value in SHOP.items() for word in (f"--{name}", value)]
        said = ("--screen", "no boot device, says Ragna", "--changed", "moved to Holmhavn")
        self.run_here("open", self.case, "--disk", self.disk, "--quiet", *said, *shop)
        log = self.folder / "serial of ragna.log"
        log.write_text(LOG)
        self.run_here("add", self.case, log)
        self.run_here("saw", self.case, "code=0x7b", "logo=shown", "backup=no", "encrypted=yes")
        note = ("--note", r"her files lie in C:\Users\ragna.h and /home/ragna")
        self.run_here(
            "tried", self.case, "test-drive", "nothing-wrong", "--code", "2000-0142", *note
        )
        self.run_here("mend", self.case, "--all", "--yes")
        self.run_here("tried", self.case, "turn-driver-off", "done")
        self.run_here("started", self.case, "yes", "--note", "she rang from +47 555 0192")
        kept = ("--put-back", "turn-driver-off=Ragna does not use it")
        cause = ("--cause", "Ragna's stick was in", "--fix", "restore-boot-sector")
        self.run_here("close", self.case, *cause, *kept, "--minutes", "35")

    def report(self, reader, form="html", *more):
        path = self.folder / f"{reader}.{form}"
        self.run_here("report", self.case, "-o", path, "--for", reader, *more)
        return path.read_text()

    def test_each_reader_gets_what_they_need_and_nothing_else(self):
        offsets = ("offset 1048576", "512 x 00")
        pages = {
            "user": (
                (
                    "What was wrong",
                    "What was done",
                    "should know now",
                    "do not cut the power",
                    "recovery key",
                    "copy of your files",
                    "stays changed on purpose",
                ),
                (*offsets, "boot-sector-damaged", "2000-0142", "Undo", "chance", SHOP["serial"]),
            ),
            "technician": (
                (
                    *offsets,
                    "As found",
                    "As it is now",
                    "boot-sector-damaged",
                    "2000-0142",
                    "0x0000007B",
                    "Undo points",
                    "Put back",
                    "likeliest after it",
                    *SHOP.values(),
                ),
                (),
            ),
            "maker": (
                (
                    "Machine",
                    "Codes, word for word",
                    "0x0000007B",
                    "2000-0142",
                    "Tests",
                    SHOP["maker"],
                    SHOP["model"],
                    SHOP["serial"],
                    "Crashes",
                ),
                (*offsets, "Undo", SHOP["user"], SHOP["technician"], "chance", "likeliest"),
            ),
        }
        for reader, (wanted, forbidden) in pages.items():
            for form in ("html", "md", "json"):
                said = self.report(reader, form)
                plain = said if form != "md" else re.sub(r"\\\\(?=[^\\w\\s])", "", said)
                for words in wanted:
                    self.assertIn(words, plain, (reader, form))
                for words in forbidden:
                    self.assertNotIn(words, plain, (reader, form))
        jsonschema.validate(
            json.loads(self.report("maker", "json")), json.loads(HAND_OVER.read_text())
        )

    def test_nothing_private_is_left_where_it_is_taken_out(self):
        private = [
            *(SHOP[name] for name in ("ticket", "user", "maker", "model", "serial", "technician")),
            "Ragna",
            "ragna",
            "Holmquist",
            "Holmhavn",
            "ragnas-laptop",
            "ragnas-case",
            "ragna.h",
            "serial of ragna",
            "555 0192",
            "stick was in",
            "does not use it",
            "no boot device, says",
            "moved to",
            "ferries.example",
            "00:1B:44",
            "quay-server-3",
            "1004336348",
            "Sunniva",
            "Grimsvik",
            "Kabin Tolv",
            "mooring office",
            "daughter",
            "ragnas-desk",
            "TICKETDESK",
            "TICKETS",
        ]
        for reader in ("user", "technician", "maker"):
            for form in ("html", "md", "json"):
                whole = self.report(reader, form)
                self.assertTrue(reader == "maker" or "on purpose" in whole or "Ragna" in whole)
                said = self.report(reader, form, "--redact")
                self.assertEqual([words for words in private if words in said], [], (reader, form))
                self.assertIn("[taken out]", said.replace("\\", ""))

    @needs("chromium", CHECKER)
    def test_a_browser_shows_prints_and_faults_none_of_them(self):
        for reader in ("user", "technician", "maker"):
            page = self.report(reader)
            self.assertLess(len(page), 2_000_000)
            for width in (1280, 400) if reader == "technician" else (400,):
                self.assertEqual(faults_in(page, self.folder, width), "CHECKED []", (reader, width))
        with tempfile.TemporaryDirectory() as profile:
            words = [*CHROMIUM, f"--user-data-dir={profile}"]
            page = self.folder / "technician.html"
            tool(*words, f"--print-to-pdf={self.folder}/page.pdf", f"file://{page}")
            shot = f"--screenshot={self.folder}/page.png"
            tool(*words, "--window-size=1280,800", shot, f"file://{page}")
        self.assertTrue((self.folder / "page.pdf").read_bytes().startswith(b"%PDF"))
        self.assertGreater((self.folder / "page.png").stat().st_size, 20000)


if __name__ == "__main__":
    unittest.main()
