"""Run every test module in a process of its own, as many at a time as there are processors; longest first.

`python -m tests [MODULE...]`; ends with the sum of all, as one run of unittest would.
"""

import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

_RAN = re.compile(r"^Ran (\d+) tests?", re.MULTILINE)
_SKIPPED = re.compile(r"skipped=(\d+)")
_LONG = (
    "real_systems",
    "firmware",
    "crashes",
    "linux_chain",
    "linux_system",
    "workshop",
    "volumes",
    "boot_entries",
    "search",
)
"""Modules that take a minute and more; begun first, so that none of them is left alone at the end."""


def main(names):
    """Run the modules; returns the exit status."""
    folder, since = Path(__file__).parent, time.monotonic()
    modules = names or [path.stem.removeprefix("test_") for path in sorted(folder.glob("test_*.py"))]
    modules.sort(key=lambda name: _LONG.index(name) if name in _LONG else len(_LONG))
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        done = list(pool.map(_run, modules))
    ran = sum(int(match.group(1)) for text, _ in done if (match := _RAN.search(text)))
    skipped = sum(int(match.group(1)) for text, _ in done if (match := _SKIPPED.search(text)))
    bad = [name for name, (_, status) in zip(modules, done, strict=True) if status]
    print("-" * 70, f"Ran {ran} tests in {time.monotonic() - since:.3f}s", sep="\n")
    print(f"\nFAILED ({', '.join(bad)})" if bad else f"\nOK{f' (skipped={skipped})' if skipped else ''}")
    return 1 if bad or not ran else 0


def _run(name):
    since = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-m", "unittest", "-q", f"tests.test_{name}"], capture_output=True, text=True, check=False
    )
    head = f"=== {name}: {time.monotonic() - since:.0f} s, exit {done.returncode}"
    print(head, done.stderr.strip(), sep="\n", flush=True)
    return done.stderr, done.returncode


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
