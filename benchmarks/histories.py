"""Histories with known truth: is the onset inside the interval, does the guilty change come first,
is anyone blamed?
"""

from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.crash.results import CrashesResult
from mending.knowledge import base_codes, base_events
from mending.model import read_time
from mending.source import MemorySource
from mending.workshop import KINDS, History, as_journal, as_text, as_xml, history

COUNT = 300
HELD, FIRST, BLAMED = 0.95, 0.90, 0.05
_FORMS = (as_xml, as_journal, as_text)


def run() -> None:
    """Print the three shares, each with the count that it is of, and how often a change was blamed
    outright.
    """
    counts: Counter[str] = Counter()
    with ProcessPoolExecutor() as pool:
        for told in pool.map(_judged, range(COUNT), chunksize=10):
            counts.update(told)
    held = counts["held"] / counts["onset"]
    first = counts["first"] / counts["guilty"]
    blamed = counts["innocent blamed"] / counts["innocent"]
    print(
        f"onset inside the interval: {held:.1%} of {counts['onset']} (wanted {HELD:.0%})"
        f" {_verdict(held >= HELD)}"
    )
    print(
        f"guilty change first: {first:.1%} of {counts['guilty']} (wanted {FIRST:.0%})"
        f" {_verdict(first >= FIRST)}"
    )
    print(
        f"blamed without guilt: {blamed:.1%} of {counts['innocent']} (limit {BLAMED:.0%})"
        f" {_verdict(blamed <= BLAMED)}"
    )
    right, wrong = (
        counts["guilty blamed"] / counts["guilty"],
        counts["another blamed"] / counts["guilty"],
    )
    print(f"guilty one blamed outright: {right:.1%}; another one in its place: {wrong:.1%}")
    print(
        f"sound histories with an onset that is called sure: {counts['sound and sure']} of"
        f" {counts['sound']}"
    )


def _verdict(good: bool) -> str:
    return "ok" if good else "not reached"


def _judged(number: int) -> list[str]:
    """What is counted of one history: every kind, every form, seeds that no test uses."""
    story = history(KINDS[number % len(KINDS)], 10_000 + number)
    data = _FORMS[number // len(KINDS) % len(_FORMS)](story)
    reads = Reader(base_codes(), base_events()).read(
        "records", MemorySource(data), story.entries[-1].at
    )
    return list(_counted(story, analyse("pc", reads, 0, base_codes())))


def _counted(story: History, found: CrashesResult) -> list[str]:
    told = []
    if story.onset is None:
        sure = found.onset is not None and found.onset.sure >= 3
        told += ["sound", *(["sound and sure"] if sure else [])]
    else:
        held = found.onset is not None and _time(found.onset.from_) <= story.onset <= _time(
            found.onset.to
        )
        told += ["onset", *(["held"] if held else [])]
    blamed = [suspect for suspect in found.suspects if suspect.blamed]
    if not story.guilty:
        return [*told, "innocent", *(["innocent blamed"] if blamed else [])]
    told += [
        "guilty",
        *(["first"] if found.suspects and _is_guilty(story, found.suspects[0].change) else []),
    ]
    if blamed:
        told.append("guilty blamed" if _is_guilty(story, blamed[0].change) else "another blamed")
    return told


def _is_guilty(story: History, change: str) -> bool:
    """Names are written differently by each form of log."""
    plain = change.lower().replace(" ", "-")
    name = story.guilty.lower().replace(" ", "-").removesuffix(".sys")
    return name in plain or (story.kind == "plugged" and plain.startswith("plugged-in"))


def _time(words: str) -> float:
    """A time that was rounded to seconds, with that much room."""
    read = read_time(words)
    return read[0] if read else 0.0
