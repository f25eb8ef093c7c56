"""Two commands in turn, so that a machine whose speed drifts does so for both."""

import statistics
import subprocess
import time
from collections.abc import Sequence

RUNS = 15


def seconds(command: Sequence[str]) -> float:
    """Wall-clock seconds of one run, output thrown away."""
    before = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - before


def ratio(one: Sequence[str], other: Sequence[str], runs: int = RUNS) -> tuple[float, float, float]:
    """Median seconds of both, and the median of the ratios of neighbouring runs, after one warm-up
    each.
    """
    seconds(one), seconds(other)
    pairs = [(seconds(one), seconds(other)) for _ in range(runs)]
    firsts, seconds_of_other = zip(*pairs, strict=True)
    return (
        statistics.median(firsts),
        statistics.median(seconds_of_other),
        statistics.median(first / second for first, second in pairs),
    )
