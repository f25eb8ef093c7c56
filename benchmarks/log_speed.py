"""`mending crashes` against `grep -c -E` with ten alternatives, on the same cached text log of 500
MB.
"""

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.timing import seconds
from mending.workshop import write_log

SIZE = 500_000_000
WANTED, MEGABYTES = 0.25, 150
_RUNS = 5
_PATTERN = (
    "Kernel panic|Oops: |BUG: |kernel BUG at|general protection fault|invalid opcode|divide"
    " error|hard LOCKUP|Hardware Error|Out of memory: Killed"
)


def run() -> None:
    """Print the share of grep's speed, and the memory of the largest process that was waited
    for.
    """
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "desk.log"
        write_log(path, SIZE)
        ours = [sys.executable, "-m", "mending", "crashes", str(path)]
        grep = ["sh", "-c", f"grep -c -E '{_PATTERN}' {path}; true"]
        seconds(grep), seconds(ours)
        shares = sorted(seconds(grep) / seconds(ours) for _ in range(_RUNS))
        share = statistics.median(shares)
        memory = _memory(ours)
        verdict = "ok" if share >= WANTED and memory < MEGABYTES else "too much"
        spread = f"{shares[0]:.2f} to {shares[-1]:.2f}"
        measured = f"{share:.2f} of grep's speed ({spread}, wanted {WANTED}), {memory:.0f} MB"
        print(f"crashes in 500 MB: {measured} {verdict}")


def _memory(command: list[str]) -> float:
    """Megabytes that a command needs, told by the command's own process."""
    script = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL,"
        " check=True);"
    )
    script += "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    done = subprocess.run(
        [sys.executable, "-c", script, *command], capture_output=True, text=True, check=True
    )
    return int(done.stdout) / 1024
