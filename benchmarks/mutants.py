"""Do the tests notice? Small random changes of the code, one at a time, and the tests that run the
changed line.

Which tests run a line is measured once: each test alone, under coverage, the programs that it
starts included. A change is tried against those of the tests that run its line, up to a budget of
seconds, that run the most of its file for each second, what runs by loading the file apart: a
constant is run by everything that loads its module, which is no test of it. What a process does
that ends without saying good-bye is not seen to be run: there the tests are asked that run most of
the file, or of its folder. So the score is a lower bound: a slower test might have noticed. Changes
inside annotations and messages are left out, for they change nothing that runs.

All happens in copies of the project below `build/mutants`; the random choice is seeded.
"""

import ast
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
import unittest
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from queue import Queue
from typing import Any

import attrs
from cosmic_ray.commands.init import _all_work_items
from cosmic_ray.mutating import mutate_and_test
from cosmic_ray.work_item import TestOutcome, WorkerOutcome
from coverage import CoverageData

PROJECT = Path(__file__).parents[1]
FOLDER = PROJECT / "build" / "mutants"
COVERAGE = FOLDER / "coverage"
"""A folder a test: what its run covered, and in `seconds` how long it took. Written as each ends,
so that a measuring that was broken off goes on; delete it when the code has changed a lot."""
WORKERS = int(os.environ.get("MUTANT_WORKERS", "2"))
SEED, BUDGET = 13, float(os.environ.get("MUTANT_BUDGET", "30"))
"""Seconds of tests a change is tried against, as they took when nothing was changed."""
SLOWEST = 120.0
"""A test that takes longer is tried against nothing."""
SAME_HERE = ("Is", "IsNot")
"""Identity instead of equality: the same for the enumerations and small numbers compared here."""
LEFT_OUT = ("RemoveDecorator", "VariableReplacer", "VariableInserter", "ExceptionReplacer")


@attrs.frozen
class TestMap:
    """What the tests run: seconds by test; by file and line the tests that run it."""

    seconds: dict[str, float]
    lines: dict[str, dict[int, list[str]]]


def main(room: str, count: int, again: bool = False) -> None:
    """Try so many changes of a room and print the score and what survived.

    Args:
        again: of these only the ones that nothing noticed the last time.
    """
    copies: Queue[Path] = Queue()
    for number in range(WORKERS):
        copies.put(_copy(number))
    tests = _test_map(copies)
    chosen = _choose(room, count)
    listed = FOLDER / f"{room.replace('/', '-')}.txt"
    if again:
        before = {line.rpartition(",")[0] for line in listed.read_text().splitlines()}
        chosen = [item for item in chosen if _named(item) in before]
    caught = tried = 0
    with ThreadPoolExecutor(WORKERS) as workers, listed.open("w") as survivors:
        for noticed, says in workers.map(lambda item: _try(item, tests, copies), chosen):
            tried += 1
            caught += noticed
            if not noticed:
                survivors.write(says)
                survivors.flush()
            if tried % 10 == 0 or tried == len(chosen):
                share = 100 * caught / tried
                print(f"mutants: {room} {caught} of {tried} noticed ({share:.0f} %)", flush=True)


def _copy(number: int) -> Path:
    """A copy of the project to change, with compiled code of what is not changed."""
    copy = FOLDER / f"copy{number}"
    shutil.rmtree(copy, ignore_errors=True)
    for name in ("src", "tests", "benchmarks", "docs"):
        shutil.copytree(PROJECT / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
    for name in ("pyproject.toml", "README.md", "CHANGELOG.md", "CONTRIBUTING.md", "Makefile"):
        shutil.copy(PROJECT / name, copy)
    (copy / "build").symlink_to(PROJECT / "build")
    (copy / "sitecustomize.py").write_text("import coverage\n\ncoverage.process_startup()\n")
    subprocess.run([sys.executable, "-m", "compileall", "-q", "src", "tests"], cwd=copy, check=True)
    return copy


def _environment(copy: Path) -> dict[str, str]:
    return {**os.environ, "PYTHONPATH": f"{copy / 'src'}{os.pathsep}{copy}"}


def _test_map(copies: "Queue[Path]") -> TestMap:
    """What every test runs; those that were not measured yet are measured."""
    loaded = unittest.defaultTestLoader.discover(str(PROJECT / "tests"), top_level_dir=str(PROJECT))
    names = sorted(test.id() for test in _each(loaded))
    new = [name for name in names if not (COVERAGE / name / "seconds").exists()]
    with ThreadPoolExecutor(WORKERS) as workers:
        list(workers.map(partial(_measure, copies=copies), new))
    return _merged(names)


def _each(suite: Any) -> Iterator[unittest.TestCase]:
    for test in suite:
        yield from _each(test) if isinstance(test, unittest.TestSuite) else (test,)


def _measure(name: str, copies: "Queue[Path]") -> None:
    """Run one test under coverage, and keep how long it took."""
    copy = copies.get()
    data = COVERAGE / name
    shutil.rmtree(data, ignore_errors=True)
    data.mkdir(parents=True)
    began = time.monotonic()
    with subprocess.Popen(
        [sys.executable, "-m", "unittest", "-q", name],
        cwd=copy,
        env={**_environment(copy), "COVERAGE_PROCESS_START": str(_settings(data))},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    ) as tests:
        try:
            tests.wait(SLOWEST)
            took = time.monotonic() - began
        except subprocess.TimeoutExpired:
            os.killpg(tests.pid, signal.SIGKILL)  # with the machines that it started
            shutil.rmtree(data)  # too slow to be tried against any change
            data.mkdir()
            took = SLOWEST
    (data / "seconds").write_text(str(took))
    copies.put(copy)


def _settings(data: Path) -> Path:
    """Every process that starts with this in its environment measures itself."""
    settings = data.parent / f"{data.name}.ini"
    settings.write_text(f"[run]\nsource = mending\nparallel = true\ndata_file = {data / 'data'}\n")
    return settings


def _merged(names: list[str]) -> TestMap:
    seconds = {name: float((COVERAGE / name / "seconds").read_text()) for name in names}
    lines: dict[str, dict[int, list[str]]] = {}
    for name in names:
        for key, numbers in _lines_of(COVERAGE / name).items():
            for number in numbers:
                lines.setdefault(key, {}).setdefault(number, []).append(name)
    return TestMap(seconds, lines)


def _lines_of(data: Path) -> dict[str, list[int]]:
    """By file the lines that a test runs; of the hundreds of programs that it may have started one
    list is made, the first time.
    """
    listed = data / "lines.json"
    if not listed.exists():
        seen: dict[str, set[int]] = {}
        for part in data.glob("data*"):
            measured = CoverageData(str(part))
            measured.read()
            for path in measured.measured_files():
                key = path.partition("/src/mending/")[2]
                seen.setdefault(key, set()).update(measured.lines(path) or ())
            part.unlink()
        listed.write_text(json.dumps({key: sorted(numbers) for key, numbers in seen.items()}))
    found: dict[str, list[int]] = json.loads(listed.read_text())
    return found


def _choose(room: str, count: int) -> list[Any]:
    """A place at random, then one of the changes that can be made there."""
    top = Path("src/mending") / room
    paths = sorted(path.relative_to(PROJECT) for path in (PROJECT / top).rglob("*.py"))
    places: dict[tuple[Path, tuple[int, int]], list[Any]] = {}
    quiet = {path: _quiet(PROJECT / path) for path in paths}
    os.chdir(PROJECT)
    for item in _all_work_items(paths, {}):
        for mutation in item.mutations:
            kind = mutation.operator_name.partition("/")[2]
            before, after = [*kind.split("_"), "", ""][1:3]
            if kind in LEFT_OUT or (after in SAME_HERE and before not in SAME_HERE):
                continue
            if any(begin <= mutation.start_pos < end for begin, end in quiet[mutation.module_path]):
                continue
            places.setdefault((mutation.module_path, mutation.start_pos), []).append(mutation)
    chance = random.Random(SEED)
    spots = sorted(places)
    return [chance.choice(places[spot]) for spot in chance.sample(spots, min(count, len(spots)))]


def _quiet(path: Path) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """Where annotations and messages stand in a file."""
    found = []
    for node in ast.walk(ast.parse(path.read_text())):
        parts: list[ast.AST | None] = []
        if isinstance(node, ast.arg | ast.AnnAssign):
            parts = [node.annotation]
        elif isinstance(node, ast.FunctionDef):
            parts = [node.returns]
        elif isinstance(node, ast.JoinedStr):
            parts = [node]
        found += [
            ((part.lineno, part.col_offset), (part.end_lineno or 0, part.end_col_offset or 0))
            for part in parts
            if isinstance(part, ast.expr)
        ]
    return found


def _try(mutation: Any, tests: TestMap, copies: "Queue[Path]") -> tuple[bool, str]:
    """Whether a change was noticed, and the change as a difference."""
    key = str(mutation.module_path).partition("src/mending/")[2]
    names: list[str] = []
    spent = 0.0
    for name in _likely(tests, key, mutation.start_pos[0]):
        if not names or spent + tests.seconds[name] <= BUDGET:
            names.append(name)
            spent += tests.seconds[name]
    copy = copies.get()
    try:
        return _run(mutation, copy, names, spent)
    finally:
        copies.put(copy)


def _likely(tests: TestMap, key: str, line: int) -> list[str]:
    """Tests that run a line: in turn those that run the most of its file for each second, and the
    quickest.

    What runs no more of a file than everything that loads it is left out. Where nothing runs the
    line, perhaps nobody saw it: what runs the most of its file is asked, or of its folder.
    """
    lines = tests.lines.get(key, {})
    files = [lines], [tests.lines[other] for other in tests.lines if _folder(other) == _folder(key)]
    for rows in files:
        busy = Counter(name for row in rows for covering in row.values() for name in covering)
        loading = min(busy.values(), default=0)
        able = {name for name, count in busy.items() if count > loading}
        covering = able & set(lines.get(line, ())) or able
        if covering:
            most = sorted(covering, key=lambda name: (loading - busy[name]) / tests.seconds[name])
            quick = sorted(covering, key=lambda name: tests.seconds[name])
            return list(
                dict.fromkeys(name for pair in zip(most, quick, strict=True) for name in pair)
            )
    return lines.get(line, [])


def _folder(key: str) -> str:
    return key.rpartition("/")[0]


def _run(mutation: Any, copy: Path, names: list[str], spent: float) -> tuple[bool, str]:
    path = _environment(copy)["PYTHONPATH"]
    command = f"env --chdir={copy} PYTHONPATH={path} {sys.executable} -m unittest -q -f "
    changed = attrs.evolve(mutation, module_path=copy / mutation.module_path)
    result = mutate_and_test(
        [changed], command + " ".join(names) if names else "true", 30 + 3 * spent
    )
    if result.worker_outcome is not WorkerOutcome.NORMAL:
        raise RuntimeError(result.output)
    noticed = bool(names) and result.test_outcome is not TestOutcome.SURVIVED
    head = f"{_named(mutation)}, {len(names)} tests"
    return noticed, f"{head}\n{result.diff}\n"


def _named(mutation: Any) -> str:
    return f"{mutation.module_path}:{mutation.start_pos[0]} {mutation.operator_name}"


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), "again" in sys.argv[3:])
