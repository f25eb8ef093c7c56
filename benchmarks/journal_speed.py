"""`mending crashes` on binary journals of systemd, as its own program writes them, against `grep`
on the same bytes.
"""

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from random import Random

from benchmarks.linux_records import HOUR
from benchmarks.timing import seconds

WRITER = Path("/usr/lib/systemd/systemd-journal-remote")
WANTED_SECONDS, GIGABYTE = 15.0, 1e9
_RUNS = 3
_STARTS, _ENTRIES, _FIRST = 20, 30_000, 1_788_000_000_000_000
_PANIC = (
    "BUG: unable to handle page fault for address: ffffb4c2003fd000",
    "RIP: 0010:slipprint_xmit+0x1f/0x80 [slipprint]",
    "Kernel panic - not syncing: Fatal exception in interrupt",
)


def run() -> None:
    """Print seconds for a gigabyte, and the share of grep's speed."""
    if not WRITER.exists():
        print(f"journals: not measured, {WRITER} is not there")
        return
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        _write(home)
        size = sum(path.stat().st_size for path in home.iterdir())
        ours = [sys.executable, "-m", "mending", "crashes", folder]
        grep = ["sh", "-c", f"grep -c -a -E 'Kernel panic|BUG: |Oops: ' {folder}/*; true"]
        seconds(grep), seconds(ours)
        taken = sorted(seconds(ours) for _ in range(_RUNS))
        theirs = statistics.median(seconds(grep) for _ in range(_RUNS))
        took = statistics.median(taken)
        each = took / size * GIGABYTE
        verdict = "ok" if each < WANTED_SECONDS else "too slow"
        print(
            f"journals of {size / 1e6:.0f} MB: {took:.1f} s, {theirs / took:.2f} of grep's speed;"
            f" {each:.1f} s for a gigabyte (limit {WANTED_SECONDS:.0f}) {verdict}"
        )


def _write(folder: Path) -> None:
    words = [str(WRITER), "-o", str(folder / "system.journal"), "-"]
    writer = subprocess.Popen(words, stdin=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    random, at = Random(3), _FIRST
    assert writer.stdin is not None
    for start in range(_STARTS):
        clock = 0
        for number in range(_ENTRIES):
            clock += random.randrange(1000, 90_000)
            by, text = _entry(random, start, number)
            writer.stdin.write(
                f"__REALTIME_TIMESTAMP={at + clock}\n__MONOTONIC_TIMESTAMP={clock}\n"
                f"_BOOT_ID={start + 1:032x}\nMESSAGE={text}\n"
                f"SYSLOG_IDENTIFIER={by}\n_TRANSPORT={'kernel' if by == 'kernel' else 'syslog'}\n"
                f"_PID={random.randrange(900)}\n\n"
            )
        at += clock + int(HOUR * 1e6)
    writer.stdin.close()
    writer.wait()


def _entry(random: Random, start: int, number: int) -> tuple[str, str]:
    if not number:
        return "kernel", "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP"
    if start % 2 and number >= _ENTRIES - len(_PANIC):
        return "kernel", _PANIC[number - _ENTRIES]
    calm = "calm sea " * random.randrange(1, 9)
    return "till", f"ticket {start}-{number} sold at berth {random.randrange(9999)}, {calm}"
