"""Clocks that lie: the order in which a file was written, and the time since each start, set
against the stamps.

A board battery that is empty, or a second system that sets the board's clock otherwise, gives a
start wrong stamps until the network sets the clock right. Kernels stamp by a clock of their own,
too, which counts from the start; with it the stamps before the jump are worked out. A start whose
clock was never set right stands where it was written: behind the one before it.
"""

import itertools
import math
from collections.abc import Sequence

import msgspec

from mending.crash.read.events import FileRead, LogEvent
from mending.crash.results import CrashResult
from mending.knowledge import EventKind
from mending.model import plain_time, read_time

CLOCK_JUMP, _FAR = 120.0, 86_400.0
"""Seconds by which clocks may differ; and from which a leap forward is one even where nothing says
that the clock was set.
"""
_SILENT = 30 * _FAR
"""Seconds for which no PC runs without a word until it asks the network for the time."""
_AT_ONCE = 2.0
_BEHIND = 60.0
"""Seconds from the last sign of life to a start whose true time nobody knows."""
_MOST_STARTS, _LATEST = 2000, 8e9


class _Piece(msgspec.Struct):
    """Events of one start between two jumps of its clock. `first` and `last`: stamp less the time
    since the start, where any event tells it; `counted`: how many events there are up to the last
    one that does.
    """

    events: list[int]
    first: float | None = None
    last: float | None = None
    counted: int = 0


def clock_set(name: str, line: int, at: float, clock: float) -> LogEvent:
    """The event of a clock that was set, which only its stamps tell."""
    says = "the clock and the time since the start went apart"
    return LogEvent(at=at, kind=EventKind.CLOCK_SET, file=name, line=line, says=says, clock=clock)


def straightened(read: FileRead) -> FileRead:
    """A file whose times are put right as far as the file itself tells, with a note where any
    were.
    """
    events = list(read.events)
    if _is_reversed(events):
        events.reverse()
    starts = _starts(events)
    shifts = [0.0] * len(events)
    jumped, seen = 0, -math.inf
    for part in starts:
        jumped += _one_clock(events, part, shifts, seen)
        seen = max(seen, *(events[number].at + shifts[number] for number in part))
    strays = _in_order(events, starts, shifts)
    moved = [event.at + shift for event, shift in zip(events, shifts, strict=True)]
    if (
        not any(shifts) or min(moved) < 0 or max(moved) > _LATEST
    ):  # no clock of a PC shows such times
        return read
    ordered = msgspec.structs.replace(read, events=tuple(events))
    return _noted(moved_by(ordered, shifts), jumped, strays)


def _is_reversed(events: Sequence[LogEvent]) -> bool:
    """Whether the newest comes first, as some exports have it."""
    steps = [later.at - event.at for event, later in itertools.pairwise(events)]
    return sum(step < 0 for step in steps) > sum(step > 0 for step in steps)


def _starts(events: Sequence[LogEvent]) -> list[range]:
    """The events of each start, by number; what stands in front of the first is left out."""
    begins = [number for number, event in enumerate(events) if event.kind is EventKind.START]
    return [
        range(begin, end) for begin, end in zip(begins, [*begins[1:], len(events)], strict=False)
    ]


def _one_clock(events: Sequence[LogEvent], part: range, shifts: list[float], seen: float) -> bool:
    """Bring the events of a start to the clock that it ended with; says whether that was needed.

    Args:
        seen: the latest time of the starts in front of it.
    """
    pieces = _pieces(events, part, seen)
    shift = 0.0
    for piece, following in zip(pieces[-2::-1], pieces[:0:-1], strict=True):
        first = events[following.events[0]]
        old = _old_time(first)
        if old is not None:
            shift += first.at - old
        elif piece.last is not None and following.first is not None:
            shift += following.first - piece.last
        else:  # nothing counts the seconds between, and there will not be many
            shift += first.at - events[piece.events[-1]].at
        for number in piece.events:
            shifts[number] = shift
    return len(pieces) > 1


def _pieces(events: Sequence[LogEvent], part: range, seen: float) -> list[_Piece]:
    pieces = [_Piece([])]
    slept = told = False
    for number in part:
        event, piece = events[number], pieces[-1]
        told = told or event.kind is EventKind.CLOCK_SET
        slept = slept or event.kind in {EventKind.SLEEP, EventKind.WAKE}
        before = events[piece.events[-1]] if piece.events else event
        if _is_set(before, event, seen) or _leaps(
            before, event, piece.last, slept=slept, told=told
        ):
            pieces.append(_split(events, piece, number))
        piece = pieces[-1]
        piece.events.append(number)
        if event.clock is not None:
            piece.last = event.at - event.clock
            piece.first = piece.last if piece.first is None else piece.first
            piece.counted = len(piece.events)
            if event.kind not in {EventKind.SLEEP, EventKind.CLOCK_SET}:
                slept = told = False
    return pieces


def _is_set(before: LogEvent, event: LogEvent, seen: float) -> bool:
    """Whether the clock was set between two events, by their stamps alone: it was said, it went
    back, or what lay before earlier starts lies behind them now.
    """
    old = _old_time(event)
    if old is not None:
        return abs(event.at - old) > CLOCK_JUMP
    if event.kind is EventKind.CLOCK_SET and event.at - before.at > _SILENT:
        return True
    return event.at < before.at - CLOCK_JUMP or before.at < seen - CLOCK_JUMP <= event.at


def _leaps(
    before: LogEvent, event: LogEvent, base: float | None, *, slept: bool, told: bool
) -> bool:
    """Whether the stamp and the time since the start went apart.

    Args:
        base: of the last event with both, its stamp less the time since the start.
        slept: since then; the time since the start stands still meanwhile.
        told: whether it was said since then that the clock was set.
    """
    if event.clock is None or base is None:
        return False
    leap = event.at - event.clock - base
    if leap < -CLOCK_JUMP:  # what was kept until the log could be written is stamped all at once
        return not 0 <= event.at - before.at <= _AT_ONCE
    return not slept and leap > (CLOCK_JUMP if told else _FAR)


def _split(events: Sequence[LogEvent], piece: _Piece, number: int) -> _Piece:
    """A new piece in front of an event. Events behind the last one with both clocks go with it from
    the widest gap of their stamps on.
    """
    loose = [*piece.events[max(piece.counted, 1) :], number]
    gaps = [
        abs(events[later].at - events[earlier].at)
        for earlier, later in itertools.pairwise([piece.events[-len(loose)], *loose])
    ]
    from_ = gaps.index(max(gaps))
    moved = loose[from_:-1]
    del piece.events[len(piece.events) - len(moved) :]
    return _Piece(moved)


def _old_time(event: LogEvent) -> float | None:
    """What the clock showed before it was set, where that is told."""
    read = read_time(event.name) if event.kind is EventKind.CLOCK_SET else None
    return read[0] if read is not None else None


def _in_order(
    events: Sequence[LogEvent], starts: Sequence[range], shifts: list[float]
) -> list[range]:
    """Put starts whose stamps contradict most of the others where they were written; gives
    these.
    """
    spans = [
        (
            events[part[0]].at + shifts[part[0]],
            max(events[number].at + shifts[number] for number in part),
        )
        for part in starts
    ]
    sound = all(later[0] >= span[1] - CLOCK_JUMP for span, later in itertools.pairwise(spans))
    if sound or len(spans) > _MOST_STARTS:
        return []
    believed = _believed(spans, [len(part) for part in starts])
    end: float | None = None
    for place, part in enumerate(starts):
        start, last = spans[place]
        if place not in believed:
            following = min((spans[later][0] for later in believed if later > place), default=None)
            move = _behind(end, following, last - start) - start
            for number in part:
                shifts[number] += move
            last += move
        end = last
    return [part for place, part in enumerate(starts) if place not in believed]


def _behind(end: float | None, following: float | None, seconds: float) -> float:
    """Where a start of so many seconds stands whose time is not known: behind the end of the one
    before it, in front of the next one that is believed.
    """
    latest = None if following is None else following - seconds - _BEHIND
    if end is None:
        return latest or 0.0
    wanted = end + _BEHIND
    return wanted if latest is None or wanted <= latest else max(end + 1, latest)


def _believed(spans: Sequence[tuple[float, float]], weights: Sequence[int]) -> set[int]:
    """The starts that can all be right together: the heaviest chain in which none begins before the
    one in front of it ended.
    """
    best: list[tuple[int, int | None]] = []
    for number, (start, _) in enumerate(spans):
        fitting = [
            (best[other][0], other)
            for other in range(number)
            if spans[other][1] <= start + CLOCK_JUMP
        ]
        weight, before = max(fitting, default=(0, None))
        best.append((weight + weights[number], before))
    place: int | None = max(range(len(best)), key=lambda number: best[number][0])
    chain = set[int]()
    while place is not None:
        chain.add(place)
        place = best[place][1]
    return chain


def moved_by(read: FileRead, shifts: Sequence[float]) -> FileRead:
    """A file whose events are moved, each by so many seconds, and whose crashes go with them.

    Args:
        shifts: for each event of the file, in its order.
    """
    moved = tuple(
        msgspec.structs.replace(
            event,
            at=event.at + shift,
            stamp=(event.at if event.stamp is None else event.stamp) if shift else event.stamp,
            previous=None if event.previous is None else event.previous + before,
        )
        for event, shift, before in zip(read.events, shifts, [0.0, *shifts[:-1]], strict=True)
    )
    times = [event.at for event in moved]
    lines = [(event.line, shift) for event, shift in zip(read.events, shifts, strict=True)]
    last = [read.last + shifts[-1]] if read.last is not None else []
    return msgspec.structs.replace(
        read,
        events=moved,
        crashes=tuple(_crash(crash, lines) for crash in read.crashes),
        first=min(times),
        last=max([*times, *last]),
    )


def _noted(read: FileRead, jumped: int, strays: Sequence[range]) -> FileRead:
    placed = {number for part in strays for number in part}
    events = tuple(
        msgspec.structs.replace(event, placed=True) if number in placed else event
        for number, event in enumerate(read.events)
    )
    notes = list(read.notes)
    if jumped:
        starts = "one start" if jumped == 1 else f"{jumped} starts"
        notes.append(
            f"{read.name}: the clock was set in {starts}; what was stamped before that is worked"
            " out from the time since the start."
        )
    if strays:
        starts = "one start" if len(strays) == 1 else f"{len(strays)} starts"
        notes.append(
            f"{read.name}: the stamps of {starts} contradict the order in which they were written;"
            " the order counts."
        )
    return msgspec.structs.replace(read, events=events, notes=tuple(notes))


def _crash(crash: CrashResult, lines: Sequence[tuple[int, float]]) -> CrashResult:
    """A crash moved like the last event up to its line."""
    shift = next((shift for line, shift in reversed(lines) if line <= crash.line), 0.0)
    at = read_time(crash.at) if crash.at is not None and shift else None
    return crash if at is None else msgspec.structs.replace(crash, at=plain_time(at[0] + shift))
