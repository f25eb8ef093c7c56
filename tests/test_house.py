"""The house keeps its order: front doors, small modules, nothing printed below the roof. Floors: `lint-imports`."""

import ast
import unittest
from pathlib import Path

ROOM = Path(__file__).parents[1] / "src" / "mending"
FREE = {"formats", "model"}
"""Rooms whose modules are each a front door of their own: one structure each, and the limits."""


def modules():
    return [(path, ast.parse(path.read_text())) for path in sorted(ROOM.rglob("*.py"))]


class House(unittest.TestCase):
    def test_a_room_is_entered_through_its_front_door(self):
        wrong = []
        for path, tree in modules():
            here = path.relative_to(ROOM).parts[0]
            for node in ast.walk(tree):
                if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("mending."):
                    room, *inside = node.module.split(".")[1:]
                    if inside and room != here and room not in FREE and (room, inside) != ("boot", ["rehearse"]):
                        wrong.append(f"{path.relative_to(ROOM)}: {node.module}")
        self.assertEqual(wrong, [])

    def test_modules_stay_small_and_functions_fit_on_a_screen(self):
        long = {str(path.relative_to(ROOM)): len(path.read_text().splitlines()) for path, _ in modules()}
        self.assertEqual({name: lines for name, lines in long.items() if lines > 270}, {})
        functions = [
            f"{path.name}: {node.name}"
            for path, tree in modules()
            for node in ast.walk(tree)
            if isinstance(node, ast.FunctionDef) and (node.end_lineno or 0) - node.lineno > 42
        ]
        self.assertEqual(functions, [])

    def test_every_public_thing_has_a_docstring(self):
        bare = [
            f"{path.name}: {node.name}"
            for path, tree in modules()
            for node in tree.body
            if isinstance(node, ast.FunctionDef | ast.ClassDef)
            and not node.name.startswith("_")
            and not ast.get_docstring(node)
        ]
        self.assertEqual(bare, [])
        self.assertEqual([str(path) for path, tree in modules() if not ast.get_docstring(tree)], [])


if __name__ == "__main__":
    unittest.main()
