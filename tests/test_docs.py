"""The docs say what the program is: schemas, catalogue and the picture of the house are up to date,
and no link of a page leads nowhere.
"""

import re
import runpy
import unittest
from pathlib import Path

TOP = Path(__file__).parents[1]
LINK = re.compile(r"\]\(([^)#]+)\)")


class Docs(unittest.TestCase):
    def test_what_make_docs_writes_is_what_lies_there(self):
        pages = runpy.run_path(str(TOP / "docs" / "generate.py"))["pages"]()
        self.assertGreater(len(pages), 20)
        for path, content in pages.items():
            self.assertEqual(path.read_text(), content, f"{path.name}: run `make docs`")

    def test_every_link_leads_somewhere(self):
        for page in (*TOP.glob("*.md"), *(TOP / "docs").glob("*.md")):
            for link in LINK.findall(page.read_text()):
                if "://" not in link:
                    self.assertTrue((page.parent / link).exists(), f"{page.name}: {link}")


if __name__ == "__main__":
    unittest.main()
