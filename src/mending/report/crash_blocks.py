"""Crashes in a report: by kind, not one row each."""

from collections.abc import Sequence
from datetime import tzinfo
from itertools import groupby

from mending.crash.results import CrashesResult, CrashResult
from mending.report.document import Block, Paragraph, Picture, Table
from mending.report.material import Material, words_of
from mending.report.times import written

_SUSPECTS_SHOWN = 5


def crash_blocks(given: Material, *, for_maker: bool = False) -> list[Block]:
    """What the crash records tell. Args: for_maker: without what is judged from them."""
    crashes = given.crashes
    if crashes is None:
        return []
    told = f"{len(crashes.crashes)} written down in {len(crashes.files)} files"
    if crashes.starts:
        told += f"; {len(crashes.starts)} starts in {crashes.hours:.0f} hours of running"
    says = [f"{told}."]
    if crashes.onset is not None:
        first, last = crashes.onset.from_, crashes.onset.to
        span = f"between {written(first, given.zone)} and {written(last, given.zone)}"
        says.append(f"Failing began {span}: {crashes.onset.says}.")
    says += [f"From {written(each.at, given.zone)}: {each.says}." for each in crashes.loops]
    says += [f"{words_of(each.id)}: {each.says}." for each in crashes.patterns]
    blocks: list[Block] = [Paragraph(" ".join(says))]
    if given.pictures.timeline:
        drawn = "Starts, failures, changes and restore points by day."
        blocks.append(Picture(given.pictures.timeline, drawn))
    if crashes.crashes:
        heads = ("crash", "means", "in", "times", "first", "last")
        blocks.append(Table(heads, _by_kind(crashes.crashes, given.zone), (3,)))
    if crashes.suspects and not for_maker:
        blocks.append(_suspects(crashes, given.zone))
    if crashes.restore_point is not None and not for_maker:
        point = crashes.restore_point
        when = written(point.at, given.zone)
        blocks.append(Paragraph(f"Go back to: {point.id or 'none'} {when}: {point.why}."))
    blocks += [
        Paragraph(f"{attempt.says} {'; '.join(attempt.found)}")
        for attempt in crashes.repair_attempts
    ]
    return blocks


def _by_kind(crashes: Sequence[CrashResult], zone: tzinfo | None) -> tuple[tuple[str, ...], ...]:
    """One row for crashes of one kind, the most frequent first."""

    def kind(crash: CrashResult) -> tuple[str, str, str]:
        return (crash.kind, crash.code or crash.headline, crash.name)

    rows = []
    for (sort, headline, name), group in groupby(sorted(crashes, key=kind), kind):
        same = list(group)
        times = sorted(crash.at for crash in same if crash.at)
        named = dict.fromkeys(crash.module or crash.symbol for crash in same)
        label = "stop code" if sort == "stop-code" else words_of(sort)
        first, last = (times[0], times[-1]) if times else ("", "")
        where = ", ".join(each for each in named if each)
        row = (f"{label} {headline} {name}".strip(), same[0].says, where, str(len(same)))
        rows.append((*row, written(first, zone), written(last, zone)))
    return tuple(sorted(rows, key=lambda row: -int(row[3])))


def _suspects(crashes: CrashesResult, zone: tzinfo | None) -> Table:
    rows = tuple(
        (
            suspect.change,
            written(suspect.at, zone),
            f"{suspect.before_per_hour:.3g}",
            f"{suspect.after_per_hour:.3g}",
            f"{suspect.p:.2g}",
            "can be blamed" if suspect.blamed else "",
        )
        for suspect in crashes.suspects[:_SUSPECTS_SHOWN]
    )
    heads = ("change", "when", "before, per hour", "after, per hour", "by chance", "judged")
    return Table(heads, rows, (2, 3, 4))
