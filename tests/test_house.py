"""The house keeps its order: front doors, small rooms and modules, nothing that hides an import.
Floors are held by `lint-imports`.
"""

import ast
import unittest
from pathlib import Path

from mending.model import FindingId, RepairId

HOUSE = Path(__file__).parents[1] / "src" / "mending"
FREE = {"formats", "model", "app", "cli", "report", "imaging"}
"""Rooms whose modules are each a front door of their own: one structure each, one job each."""
PROBLEMS = {"fats-differ", "fat-unreadable", "superblock-checksum", "errors-recorded"}
"""Codes of problems that readers say, which the findings about them are named after."""
MOST_LINES, MOST_LINES_OF_FUNCTION = 800, 60
"""Room to breathe counts: a call laid out one argument a line is easier to read, not longer."""


def modules():
    return [(path, ast.parse(path.read_text())) for path in sorted(HOUSE.rglob("*.py"))]


VIEWS = ["cli", "show"]
"""Each view is loaded alone, so that a command starts fast."""


class FrontDoors(unittest.TestCase):
    def test_a_room_and_a_room_inside_are_entered_through_their_front_doors(self):
        wrong = []
        for path, tree in modules():
            here = path.relative_to(HOUSE).parts
            for node in ast.walk(tree):
                if not isinstance(node, ast.ImportFrom):
                    continue
                name = node.module or ""
                if not name.startswith("mending.") or self.allowed(name.split(".")[1:], here):
                    continue
                wrong.append(f"{path.relative_to(HOUSE)}: {name}")
        self.assertEqual(wrong, [])

    def allowed(self, asked, here):
        room, *inside = asked
        if room in FREE or not inside:
            return True
        if len(inside) == 1 or asked[:2] == VIEWS:
            return True
        return room == here[0] and inside[0] == here[1]


class Sizes(unittest.TestCase):
    def test_modules_stay_small_and_functions_fit_on_a_screen(self):
        lengths = {
            str(path.relative_to(HOUSE)): len(path.read_text().splitlines())
            for path, _ in modules()
        }
        long = {name: lines for name, lines in lengths.items() if lines > MOST_LINES}
        self.assertEqual(long, {})
        functions = []
        for path, tree in modules():
            for node in ast.walk(tree):
                if isinstance(node, ast.FunctionDef):
                    lines = (node.end_lineno or 0) - node.lineno
                    if lines > MOST_LINES_OF_FUNCTION:
                        functions.append(f"{path.relative_to(HOUSE)}: {node.name}, {lines}")
        self.assertEqual(functions, [])


class Words(unittest.TestCase):
    def test_every_public_thing_has_a_docstring(self):
        bare = []
        for path, tree in modules():
            if not ast.get_docstring(tree):
                bare.append(str(path))
            for node in tree.body:
                is_thing = isinstance(node, ast.FunctionDef | ast.ClassDef)
                if is_thing and not node.name.startswith("_") and not ast.get_docstring(node):
                    bare.append(f"{path.name}: {node.name}")
        self.assertEqual(bare, [])

    def test_nothing_is_hidden_from_the_formatter(self):
        hidden = [str(path) for path, _ in modules() if "fmt: " in path.read_text()]
        self.assertEqual(hidden, [])


class Catalogue(unittest.TestCase):
    """Ids of findings and repairs stand in one place."""

    def test_no_other_module_spells_an_id_of_a_finding_or_repair_out(self):
        words = {RepairId.SUPERBLOCK, RepairId.CONTROL_SET}  # of the trade, beside being ids
        ids = {*FindingId, *RepairId} - words - PROBLEMS
        rooms = ("boot", "repair", "app", "cli", "report")
        wrong = []
        for room in rooms:
            for path in sorted((HOUSE / room).rglob("*.py")):
                tree = ast.parse(path.read_text())
                spelt = {
                    node.value
                    for node in ast.walk(tree)
                    if isinstance(node, ast.Constant) and isinstance(node.value, str)
                }
                wrong += [f"{path.relative_to(HOUSE)}: {name}" for name in sorted(spelt & ids)]
        self.assertEqual(wrong, [])


if __name__ == "__main__":
    unittest.main()
