"""What was confirmed is what is written: the same proposal, after its bytes were compared; and what
that costs.
"""

import contextlib
import io
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from mending.boot import trace as walk
from mending.cli.show.tables import rows, say
from mending.knowledge import load_pack
from mending.knowledge.load import kept
from mending.knowledge.schema import Pack
from mending.model import InputError, RefusedError, RepairId
from mending.repair.base import MendSettings
from mending.repair.boot import own_code
from mending.repair.journal import Journal
from mending.repair.run import carry_out, examine, preview
from mending.source import open_source
from mending.workshop import BIOS_FAULTS, bios_disk
from tests.support import patch
from tests.test_knowledge import BASE, changed_pack

AT = "2026-11-25T12:00:00+00:00"


class Confirmed(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "gate-9.img"
        draft = bios_disk(own_code())
        BIOS_FAULTS["blank-boot-code"](draft)
        draft.save(self.path)

    def journal(self):
        return Journal(self.folder / "undo", self.folder / "key")

    def planned(self):
        with open_source(str(self.path)) as source:
            settings = MendSettings()
            return preview(RepairId.BOOT_CODE, examine(source, settings), settings)

    def test_one_repair_surveys_the_disk_three_times_at_most(self):
        with mock.patch.object(walk, "survey", wraps=walk.survey) as counted:
            planned = self.planned()
            with open_source(str(self.path), for_writing=True) as source:
                result, _ = carry_out(planned, source, self.journal(), AT)
        self.assertTrue(result.done)
        self.assertIn(counted.call_count, (2, 3))
        self.assertEqual(self.path.read_bytes()[:440], own_code())

    def test_a_disk_that_changed_after_the_question_is_left_alone(self):
        planned = self.planned()
        patch(self.path, 7, b"other")
        before = self.path.read_bytes()
        with (
            open_source(str(self.path), for_writing=True) as source,
            self.assertRaises(RefusedError),
        ):
            carry_out(planned, source, self.journal(), AT)
        self.assertEqual(self.path.read_bytes(), before)


class Packs(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_an_id_that_the_catalogue_lacks_is_refused_with_its_place(self):
        rows = (
            ("causes.toml", '"boot-code-blank"', '"boot-code-blanc"', "proved_by"),
            ("steps.toml", 'repair = "boot-code"', 'repair = "boot-cod"', "repair"),
            ("steps.toml", 'repair = "boot-code"', 'repair = "gpt-copy"', "repair"),
        )
        for file, old, new, key in rows:
            with self.assertRaises(InputError) as refused:
                load_pack(changed_pack(self.folder, file, old, new))
            self.assertIn(file, refused.exception.says)
            self.assertIn(key, refused.exception.says)

    def test_a_kept_copy_is_used_while_it_fits_and_no_longer(self):
        made, copies = [], self.folder / "copies"

        def make():
            made.append(load_pack(BASE))
            return made[-1]

        first = kept(Pack, BASE, ["causes.toml"], make, copies)
        self.assertEqual(kept(Pack, BASE, ["causes.toml"], make, copies), first)
        self.assertEqual(len(made), 1)
        copy = next(copies.glob("pack-*"))
        copy.write_bytes(copy.read_bytes()[:100])
        self.assertEqual(kept(Pack, BASE, ["causes.toml"], make, copies), first)
        kept(Pack, BASE, ["causes.toml", "steps.toml"], make, copies)
        self.assertEqual((len(made), len(list(copies.glob("pack-*")))), (3, 1))
        self.assertEqual(kept(Pack, BASE, ["grades.toml"], make, Path("/proc/none")), first)


class Tables(unittest.TestCase):
    CELLS = (
        ("12", "2048", "EFI system partition", "a sentence that is a good deal longer", "clean"),
        ("3", "83968", "Linux", "short", "hibernated"),
    )

    def shown(self, width, **more):
        written = io.StringIO()
        with (
            mock.patch.dict("os.environ", {"COLUMNS": str(width)}),
            contextlib.redirect_stdout(written),
        ):
            say(rows(self.CELLS, ("no.", "start", "type", "what", "state"), wide=3, **more))
        return written.getvalue().splitlines()

    def test_words_stay_whole_and_lines_end_without_blanks(self):
        words = {word for row in self.CELLS for cell in row for word in cell.split()}
        for width in (120, 80, 40):
            lines = self.shown(width, right=(0, 1), drop=(1, 4))
            self.assertEqual([line for line in lines if line != line.rstrip()], [])
            self.assertLessEqual(max(map(len, lines)), width)
            seen = {word for line in lines[1:] for word in line.split()}
            self.assertLessEqual(seen, words)
        self.assertIn("2048", " ".join(self.shown(80, right=(0, 1), drop=(1, 4))))
        self.assertNotIn("2048", " ".join(self.shown(40, right=(0, 1), drop=(1, 4))))

    def test_a_table_of_nothing(self):
        written = io.StringIO()
        with contextlib.redirect_stdout(written):
            say(rows(()))
        self.assertEqual(written.getvalue(), "")


if __name__ == "__main__":
    unittest.main()
