"""What a short command costs beside importing click and rich.console: with the parsed copies of the
knowledge, and with a folder for them that cannot be written. Of a trace, what reading the target
takes is left out: the same trace, done in a process that has everything loaded, is subtracted. The
package is compiled first, as an installed one is.
"""

import compileall
import os
import sys
import tempfile
import time
from pathlib import Path

import mending
from benchmarks.timing import ratio
from mending.boot.trace import trace_target
from mending.repair.boot import own_code
from mending.source import open_source
from mending.workshop import bios_disk

HELP, WARM, COLD = 1.5, 2.0, 3.0
_BARE = [sys.executable, "-c", "import click, rich.console"]


def run() -> None:
    """Print each ratio and whether it keeps to its limit."""
    program = str(Path(sys.executable).with_name("mending"))
    compileall.compile_dir(Path(mending.__file__).parent, quiet=1)
    with tempfile.TemporaryDirectory() as folder:
        disk = Path(folder) / "small.img"
        bios_disk(own_code()).save(disk)
        commands = (["--help"], ["code", "0x7b"], ["signs"], ["trace", str(disk)])
        os.environ["XDG_CACHE_HOME"] = folder
        for words in commands:
            reading = _reading(disk) if words[0] == "trace" else 0.0
            _compare(program, words, HELP if words[0] == "--help" else WARM, reading, "")
        os.environ["XDG_CACHE_HOME"] = "/proc/none"
        for words in commands[1:]:
            reading = _reading(disk) if words[0] == "trace" else 0.0
            _compare(program, words, COLD, reading, ", no copies")


def _compare(program: str, words: list[str], limit: float, reading: float, how: str) -> None:
    ours, bare, _ = ratio([program, *words], _BARE)
    share = (ours - reading) / bare
    verdict = "ok" if share <= limit else "too slow"
    figures = f"{words[0]}{how} {ours * 1000:.0f} ms, imports alone {bare * 1000:.0f} ms"
    print(f"start-up: {figures}, ratio {share:.2f} (limit {limit}) {verdict}")


def _reading(disk: Path) -> float:
    """Seconds of one trace where everything is loaded."""
    times = []
    for _ in range(5):
        began = time.perf_counter()
        with open_source(str(disk)) as source:
            trace_target(source)
        times.append(time.perf_counter() - began)
    return min(times)
