"""What each reader of a report has to know: the user, the next technician, the maker's support."""

from mending.report.cards import how_it_is_done
from mending.report.document import HandOver
from mending.report.for_others import for_maker, for_user
from mending.report.for_technician import for_technician
from mending.report.material import Material, mended_findings, words_of
from mending.report.times import written, zone_name

READERS = ("technician", "user", "maker")
"""Whom a report is for."""
STEPS = "steps"
"""A report of nothing but how the steps of the plan are done."""
_PARTS = {
    "technician": for_technician,
    "user": for_user,
    "maker": for_maker,
    STEPS: how_it_is_done,
}


def hand_over(given: Material, reader: str) -> HandOver:
    """The report for one of the `READERS`, or `STEPS`."""
    return HandOver(
        reader=reader,
        case=given.case.name,
        verdict=_verdict(given),
        made=written(given.made, given.zone),
        zone=zone_name(given.made, given.zone),
        sections=tuple(section for section in _PARTS[reader](given) if section.blocks),
    )


def _verdict(given: Material) -> str:
    case, mended = given.case, _mended(given)
    if case.closed is not None:
        return f"The PC works again; the case is closed.{mended}"
    if case.handed_over is not None:
        return f"Not started yet; {case.handed_over.to} goes on with it."
    if case.works:
        return f"The PC starts again.{mended}"
    if case.watched is not None:
        return f"The PC starts, under watch: {case.watched.hours:g} hours so far."
    if given.trace is None:
        return "Not started yet; no disk has been looked at."
    if given.trace.failing_phase is not None:
        stops = f"The disk stops at: {words_of(given.trace.failing_phase)}."
        return f"{stops}{mended}"
    if mended:
        return f"Not started yet; nothing that was read stops the disk any more.{mended}"
    return f"On the disk: {words_of(given.trace.verdict)}."


def _mended(given: Material) -> str:
    """What stopped the disk when it was found, where our repairs took that away; else empty."""
    gone = mended_findings(given)
    if not gone or given.found is None or given.found.failing_phase is None:
        return ""
    phase = words_of(given.found.failing_phase)
    return f" It stopped at {phase}: {gone[0].says} That was mended."
