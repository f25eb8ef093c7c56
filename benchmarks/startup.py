"""`mending --help` against importing click and rich.console."""

import sys
from pathlib import Path

from benchmarks.timing import ratio

LIMIT = 1.5


def run() -> None:
    """Print the ratio and whether it keeps to the limit."""
    program = str(Path(sys.executable).with_name("mending"))
    ours, bare, share = ratio([program, "--help"], [sys.executable, "-c", "import click, rich.console"])
    verdict = "ok" if share <= LIMIT else "too slow"
    figures = f"--help {ours * 1000:.0f} ms, imports alone {bare * 1000:.0f} ms"
    print(f"start-up: {figures}, ratio {share:.2f} (limit {LIMIT}) {verdict}")
