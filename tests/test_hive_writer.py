"""Hives changed by our writer, read by an independent reader: exactly what was meant, no more."""

import hashlib
import subprocess
import tempfile
import unittest
from pathlib import Path
from random import Random

from mending.disk.hives import Hive, HiveEditor, changed_places, new_hive, replayed, walk
from mending.formats import hives
from mending.formats.hives import DamagedHiveError
from mending.model import InputError
from mending.workshop.nt import hive_bytes
from tests.samples import needs_samples
from tests.support import needs
from tests.test_hives import DUMP, ORACLE, samples

EDITS, MOST_BYTES = 200, 8 << 20
TEXT, BINARY, NUMBER, TEXTS = 1, 3, 4, 7
LENGTHS = (0, 1, 4, 5, 12, 60, 300, 5000, 16_344, 16_345, 40_000)


def oracle(data):
    """Keys with their number of values, and values with a sum of their data."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "hive"
        path.write_bytes(data)
        words = ["/usr/bin/python3", "-c", DUMP, str(path)]
        done = subprocess.run(words, check=True, capture_output=True, text=True)
    return sorted(done.stdout.splitlines())


class Model:
    """What a hive should hold, kept apart from any bytes."""

    def __init__(self, data):
        hive = Hive(data)
        self.keys = {}
        for path, key in walk(hive.root):
            self.keys[path] = {
                value.name.upper(): (value.name, value.type, hive.data(value))
                for value in key.values()
            }

    def rows(self):
        found = []
        for path, values in self.keys.items():
            found.append(repr((path, len(values))))
            for name, kind, data in values.values():
                found.append(repr((path, name, kind, hashlib.sha256(data).hexdigest())))
        return sorted(found)


def edit(random, model, editor):
    """One change of the same kind to both."""
    path = random.choice(list(model.keys))
    inside = path.lstrip("\\")
    values = model.keys[path]
    act = random.choice(("set", "set", "change", "change", "drop", "key", "key", "cut"))
    if act == "key":
        name = (
            random.choice(("Berth", "quay", "Zoll", "Ärmel", "λ-pier")) + str(random.random())[2:8]
        )
        editor.add_key(f"{inside}\\{name}")
        model.keys[f"{path}\\{name}"] = {}
    elif act == "cut" and path and not path.count("\\") < 2:
        below = [each for each in model.keys if each == path or each.startswith(path + "\\")]
        if len(below) < 30:
            editor.remove_key(inside)
            for each in below:
                del model.keys[each]
    elif act == "drop" and values:
        name = random.choice(list(values))
        editor.remove_value(inside, values[name][0].swapcase())
        del values[name]
    elif act in {"set", "change"}:
        known = act == "change" and values
        name = random.choice(list(values.values()))[0] if known else f"Fare {random.random()}"
        kind, data = random.choice((BINARY, TEXT, NUMBER)), random.randbytes(random.choice(LENGTHS))
        editor.set_value(inside, name, kind, data)
        kept = values.get(name.upper(), (name,))[0]
        values[name.upper()] = kept, kind, data


@needs_samples("dfwinreg", "dissect.regf", "winevtrc")
@needs(ORACLE)
class Real(unittest.TestCase):
    def test_random_edits_of_every_sample_are_read_as_they_were_meant(self):
        lengths = set()
        for name, data in samples():
            if len(data) > MOST_BYTES or len(data) in lengths:
                continue
            with self.subTest(name):
                model, editor, random = Model(data), HiveEditor(data), Random(name)
                if len({*model.keys}) != len({path.upper() for path in model.keys}):
                    continue
                for _ in range(EDITS):
                    edit(random, model, editor)
                after = editor.finished()
                self.assertEqual(Hive(after).check(), ())
                theirs, meant = set(oracle(after)), set(model.rows())
                self.assertEqual(sorted(theirs ^ meant)[:4], [])
                lengths.add(len(data))
        self.assertGreaterEqual(len(lengths), 3)

    def test_a_value_changed_in_place_changes_its_own_bytes_and_the_head(self):
        name, data = next(each for each in samples() if len(each[1]) > 1 << 18)
        path, key = next((p, k) for p, k in walk(Hive(data).root) if k.cell.values)
        value = next(key.values())
        editor = HiveEditor(data)
        old = Hive(data).data(value)
        editor.set_value(path, value.name, value.type, bytes(byte ^ 1 for byte in old))
        after = editor.finished()
        self.assertEqual(len(after), len(data), name)
        unlike = [at for at in range(len(data)) if data[at] != after[at]]
        self.assertLessEqual(len([at for at in unlike if at >= 512]), max(len(old), 4) + 8)


class Own(unittest.TestCase):
    def test_a_new_hive_is_compact_and_grows_with_what_is_put_in(self):
        editor = HiveEditor(new_hive(133_500_000_000_000_000, "Desk"))
        for number in range(1100):
            editor.add_key(f"Objects\\{number:05}")
        editor.set_value("Objects\\00007", "Long", BINARY, bytes(100_000))
        after = editor.finished()
        self.assertEqual(Hive(after).check(), ())
        self.assertEqual(len(list(walk(Hive(after).root))), 1102)
        self.assertLess(len(after), 400_000)
        for number in range(1100):
            editor.remove_key(f"Objects\\{number:05}")
        self.assertEqual(len(list(walk(Hive(editor.finished()).root))), 2)
        self.assertEqual(len(new_hive(0, "Desk")), 8192)

    @needs(ORACLE)
    def test_the_independent_reader_takes_a_new_hive(self):
        self.assertEqual(oracle(new_hive(0, "Desk")), [repr(("", 0))])

    def test_no_log_is_laid_over_what_was_written(self):
        data = hive_bytes({"A": {"B": 1}}, 0)
        torn = bytearray(data)
        torn[4:8] = (9).to_bytes(4, "little")
        torn[508:512] = hives.checksum(bytes(torn[:512])).to_bytes(4, "little")
        log = bytes(torn[:512]) + b"DIRT" + b"\xff" * 60
        log = log.ljust(1024, b"\0") + data[4096:].replace(b"\1\0\0\0", b"\2\0\0\0")
        editor = HiveEditor(bytes(torn))
        editor.set_value("A", "B", NUMBER, (77).to_bytes(4, "little"))
        after = editor.finished(above=40)
        self.assertEqual(Hive(after).base.first, 41)
        again = replayed(after, [log])
        self.assertEqual((again.applied, Hive(again.data).find("A").number("B")), (0, 77))

    def test_what_cannot_be_done_is_said(self):
        editor = HiveEditor(hive_bytes({"A": {"B": 1}}, 0))
        for act in (
            lambda: editor.set_value("X", "B", NUMBER, b""),
            lambda: editor.remove_value("A", "C"),
            lambda: editor.remove_key("X"),
            lambda: editor.remove_key(""),
            lambda: editor.add_key("A\\" + "n" * 300),
        ):
            with self.assertRaises(InputError):
                act()

    def test_a_cell_of_two_owners_is_not_given_back_twice(self):
        data = bytearray(hive_bytes({"A": {"B": b"12345678", "C": b"87654321"}}, 0))
        hive = Hive(bytes(data))
        first, second = hive.find("A").value_cells()
        data[4096 + second + 4 + 8 : 4096 + second + 16] = data[
            4096 + first + 12 : 4096 + first + 16
        ]
        editor = HiveEditor(bytes(data))
        editor.remove_value("A", "B")
        with self.assertRaises(DamagedHiveError):
            editor.remove_value("A", "C")

    def test_changed_places_are_exactly_those(self):
        data = hive_bytes({"A": {"B": 1, "C": "x"}, "D": {}}, 0)
        editor = HiveEditor(data)
        editor.set_value("A", "b", NUMBER, (2).to_bytes(4, "little"))
        editor.add_key("D\\E")
        places = changed_places(Hive(data), Hive(editor.finished()))
        self.assertEqual(places, {("\\a", "b"), ("\\d\\e", None)})


if __name__ == "__main__":
    unittest.main()
