"""Linux PCs whose events stand in several files, with known truth: counts, onset, guilty change."""

import statistics
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from benchmarks.linux_records import Records, records
from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.crash.results import CrashesResult
from mending.knowledge import base_codes, base_events
from mending.model import read_time
from mending.source import MemorySource

COUNT = 300
_LATER = 1_795_000_000.0


def run() -> None:
    """Print the shares."""
    counts: Counter[str] = Counter()
    hours: list[float] = []
    with ProcessPoolExecutor() as pool:
        for told, width in pool.map(_judged, range(1000, 1000 + COUNT), chunksize=10):
            counts.update(told)
            hours += [width] if width is not None else []

    def share(part: str, whole: str) -> str:
        return f"{counts[part] / max(counts[whole], 1):.1%} of {counts[whole]}"

    print(f"starts and crashes counted once, written twice: {share('counted', 'all')}")
    mean = statistics.mean(hours)
    print(f"onset inside: {share('held', 'onset')}; mean width {mean:.0f} hours of the calendar")
    print(f"guilty change first where crashes name it: {share('named first', 'named')}")
    print(f"guilty change first where nothing names it: {share('unnamed first', 'unnamed')}")
    print(f"blamed without guilt: {share('innocent blamed', 'innocent')}")
    print(f"another blamed in its place: {share('another blamed', 'onset')}")


def _judged(seed: int) -> tuple[list[str], float | None]:
    story = records(seed)
    reader = Reader(base_codes(), base_events())
    reads = [
        read
        for name, data in story.files.items()
        for read in reader.read(name, MemorySource(data), _LATER)
    ]
    found = analyse("pc", reads, 0, base_codes())
    told = ["all"]
    if (len(found.crashes), len(found.starts)) == (story.crashes, story.starts):
        told.append("counted")
    return _counted(story, found, told)


def _counted(
    story: Records, found: CrashesResult, told: list[str]
) -> tuple[list[str], float | None]:
    blamed = [suspect.change for suspect in found.suspects if suspect.blamed]
    if story.onset is None:
        return [*told, "innocent", *(["innocent blamed"] if blamed else [])], None
    told.append("onset")
    width = None
    if found.onset is not None:
        start, end = (read_time(at) for at in (found.onset.from_, found.onset.to))
        if start is not None and end is not None:
            width = (end[0] - start[0]) / 3600
            told += ["held"] if start[0] - 1 <= story.onset <= end[0] + 1 else []
    kind = "named" if story.names else "unnamed"
    first = bool(found.suspects) and story.guilty in found.suspects[0].change
    told += [kind, *([f"{kind} first"] if first else [])]
    told += ["another blamed"] if blamed and story.guilty not in blamed[0] else []
    return told, width
