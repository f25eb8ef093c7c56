"""The docs say what the program is: schemas, catalogue and the picture of the house are up to date,
and no link of a page leads nowhere.
"""

import os
import re
import runpy
import subprocess
import unittest
from pathlib import Path

from mending.cli import COMMANDS
from tests.support import PROGRAM, InFolder

BLOCK = re.compile(r"```console\n(.*?)```", re.DOTALL)
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


class Guides(InFolder):
    """Whoever types along sees what the guides show."""

    def typed(self, page):
        """The lines after `$`, each with what is shown below it."""
        found = []
        for block in BLOCK.findall((TOP / "docs" / page).read_text()):
            for line in block.splitlines():
                if line.startswith("$ "):
                    found.append((line.removeprefix("$ "), []))
                elif line.strip():
                    found[-1][1].append(line)
        return found

    def check(self, page):
        (self.folder / "bin").mkdir()
        (self.folder / "bin" / "mending").symlink_to(PROGRAM)
        path = f"{self.folder / 'bin'}{os.pathsep}{os.environ['PATH']}"
        for words, wanted in self.typed(page):
            if "answers.txt" in words:
                said = "write\nyes\nyes\n\n\n25\n"
                (self.folder / "shop" / "answers.txt").write_text(said)
            done = subprocess.run(
                words,
                shell=True,
                cwd=self.folder,
                env={**os.environ, **self.env, "PATH": path, "COLUMNS": "80"},
                capture_output=True,
                text=True,
                timeout=200,
            )
            shown = " ".join((done.stdout + done.stderr).split())
            self.assertEqual(done.returncode, 0, f"{page}: {words}: {shown}")
            for line in wanted:
                self.assertIn(" ".join(line.split()), shown, f"{page}: {words}")

    def test_one_pc_from_the_call_to_the_close(self):
        self.check("guide.md")

    def test_a_call_without_a_disk(self):
        self.check("phone.md")


class Names(InFolder):
    """What the program is called and takes, and where one reads of it."""

    def test_every_option_of_every_command_stands_in_the_reference(self):
        reference = (TOP / "docs" / "commands.md").read_text()
        for name in COMMANDS:
            part = reference.split(f"\n## {name}\n")[1].split("\n## ")[0]
            for option in re.findall(r"^  (--[a-z-]+)", self.run_here(name, "--help"), re.M):
                self.assertIn(f"`{option}", part.replace(", --", ", `--"), f"{name} {option}")

    def test_the_tab_key_completes_and_topics_are_explained(self):
        case = self.folder / "ferry"
        self.run_here("open", case, "--quiet")
        for line, wanted in (
            (f"mending plan {self.folder}/f", str(case)),
            (f"mending saw {case} after-logo=c", "after-logo=cursor"),
            (f"mending tried {case} write-b", "write-boot-code"),
            (f"mending mend {case} hive-h", "hive-header"),
            (f"mending close {case} --cause boot-code-d", "boot-code-damaged"),
            ("mending gat", "gather"),
        ):
            asked = {
                "_MENDING_COMPLETE": "bash_complete",
                "COMP_WORDS": line,
                "COMP_CWORD": str(line.count(" ")),
            }
            shown = self.run_with(asked)
            self.assertIn(f"plain,{wanted}", shown, line)
        for shell in ("bash", "zsh", "fish"):
            self.assertIn("_MENDING_COMPLETE", self.run_here("complete", shell))
        for topic in ("phases", "places", "safety", "statuses", "trace"):
            self.assertGreater(self.run_here("help", topic).count("\n"), 5)
        self.assertIn("no topic", self.run_here("help", "tides", expect=2))
        self.assertIn("Topics:", self.run_here("help"))

    def run_with(self, env):
        words = {**os.environ, **self.env, **env}
        return subprocess.run([PROGRAM], env=words, capture_output=True, text=True).stdout


class Settings(InFolder):
    def setUp(self):
        super().setUp()
        self.env["XDG_CONFIG_HOME"] = str(self.folder / "config")
        self.file = self.folder / "config" / "mending" / "config.toml"
        self.file.parent.mkdir(parents=True)

    def test_what_is_set_holds_in_a_new_case_and_in_times(self):
        pack = self.folder / "own"
        pack.mkdir()
        rows = '[[fact]]\nid = "parrot"\nasks = "Is there a parrot?"\n'
        (pack / "facts.toml").write_text(
            f'{rows}answers.yes = {{ says = "yes" }}\nanswers.no = {{ says = "no" }}\n'
        )
        self.file.write_text(
            f'care = "speed"\nzone = "Atlantic/Faroe"\npacks = ["{pack}"]\n'
            '[shop]\ntechnician = "Odd Berge"\n'
        )
        self.assertIn("Atlantic/Faroe", self.run_here("config"))
        case = self.folder / "ferry"
        opened = self.json_here("open", case, "--quiet", "--fact", "parrot=yes")
        self.assertEqual(opened["shop"], {"technician": "Odd Berge"})
        self.assertEqual(opened["facts"], {"parrot": "yes"})
        page = self.folder / "page.md"
        self.run_here("report", case, "-o", page)
        self.assertIn("times: WE", page.read_text())

    def test_the_worked_example_of_a_pack_works(self):
        page = (TOP / "docs" / "packs.md").read_text()
        rows = "".join(re.findall(r"```toml\n(.*?)```", page, re.DOTALL))
        pack = self.folder / "own"
        pack.mkdir()
        for table in re.split(r"(?m)^(?=\[\[)", rows)[1:]:
            name = re.match(r"\[\[(\w+)\]\]", table).group(1)
            (pack / f"{name}s.toml").write_text(table)
        self.file.write_text(f'packs = ["{pack}"]\n')
        case = self.folder / "till"
        self.run_here("open", case, "--quiet")
        said = self.run_here("saw", case, "the card reader was pulled out", "--quiet")
        self.assertIn("card-reader=yes", said)
        self.assertEqual(self.json_here("causes", case)["causes"][0]["id"], "card-reader-lost")
        self.assertIn("plug-card-reader", self.run_here("plan", case))
        self.assertIn("repair disc in", self.run_here("help", "copy-boot-files"))
        (pack / "causes.toml").write_text('[[cause]]\nid = "x"\n')
        self.assertIn("causes.toml, cause x", self.run_here("causes", case, expect=3))

    def test_faults_are_named_with_line_and_key(self):
        for text, wanted in (
            ('care = "files"\ncolour = 1\n', "line 2, key colour"),
            ("care = 3\n", "line 1, key care"),
            ('\ncare = "everything"\n', "line 2, key care"),
            ('zone = "Moon/North"\n', "line 1, key zone"),
            ('[shop]\nparrot = "yes"\n', "line 2, key parrot"),
            ('packs = ["/nowhere"]\n', "line 1, key packs"),
            ("care = \n", "is not TOML"),
        ):
            self.file.write_text(text)
            self.assertIn(wanted, self.run_here("config", expect=3), text)
        self.assertIn("line", self.run_here("open", self.folder / "x", "--quiet", expect=3))
        self.file.write_text("")
        self.file.write_text(self.run_here("config", "--example"))
        self.run_here("config")


if __name__ == "__main__":
    unittest.main()
