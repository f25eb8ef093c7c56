"""Linux PCs whose events stand in several files, with known truth: counts, onset, guilty change."""

import statistics
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from benchmarks.linux_records import OTHERWISE, Records, laid_out, records
from mending.app.evidence import read_crashes
from mending.crash.read import log_files
from mending.crash.results import CrashesResult
from mending.model import read_time

COUNT, OTHERS = 300, 40


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
    print(f"the same counts and ranks, written once, twice, three times: {share('same', 'all')}")
    mean = statistics.mean(hours)
    print(f"onset inside: {share('held', 'onset')}; mean width {mean:.0f} hours of the calendar")
    print(f"guilty change first where crashes name it: {share('named first', 'named')}")
    print(f"guilty change first where nothing names it: {share('unnamed first', 'unnamed')}")
    print(f"blamed without guilt: {share('innocent blamed', 'innocent')}")
    print(f"another blamed in its place: {share('another blamed', 'onset')}")

    with ProcessPoolExecutor() as pool:
        for kind in OTHERWISE:
            found = list(pool.map(_first, range(OTHERS), [kind] * OTHERS))
            share_first = sum(first for first, _ in found) / OTHERS
            blamed = sum(by for _, by in found) / OTHERS
            print(f"named otherwise ({kind}): guilty first {share_first:.0%}, blamed {blamed:.0%}")


def _first(seed: int, kind: str) -> tuple[bool, bool]:
    """Whether the guilty change comes first, and whether it is blamed."""
    story = records(seed, kind)
    top = next(iter(_read(story).suspects), None)
    first = top is not None and story.guilty in top.change
    return first, first and top is not None and top.blamed


def _judged(seed: int) -> tuple[list[str], float | None]:
    story = records(seed)
    once = {name: data for name, data in story.files.items() if name != "kern.log"}
    thrice = story.files | {f"copy/{name}": data for name, data in once.items()}
    found = _read(story)
    others = [_read(story._replace(files=files)) for files in (once, thrice)]
    told = ["all"]
    if (len(found.crashes), len(found.starts)) == (story.crashes, story.starts):
        told.append("counted")
    if all(_ranks(other) == _ranks(found) for other in others):
        told.append("same")
    return _counted(story, found, told)


def _read(story: Records) -> CrashesResult:
    with tempfile.TemporaryDirectory() as folder:
        laid_out(story, Path(folder))
        return read_crashes("pc", log_files(Path(folder)), folder)


def _ranks(found: CrashesResult) -> tuple[object, ...]:
    ranks = [(suspect.change, suspect.at) for suspect in found.suspects]
    return len(found.crashes), len(found.starts), ranks


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
