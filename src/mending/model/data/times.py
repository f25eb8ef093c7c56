"""Times as logs write them, read to Unix seconds.

Sources: RFC 3339 5.6 (`date-time`), RFC 3164 4.1.2 (month, day and time without year or zone), RFC
5424 6.2.3, DSP0004 2.6 (packed, with the zone in minutes). Spreadsheets write dates with slashes or
dots, JSON writers of the nt family milliseconds in brackets.
"""

import re
from datetime import UTC, datetime

_ISO = re.compile(
    r"(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d):(\d\d)([.,]\d+)? ?(Z|[+-]\d\d:?\d\d)?", re.ASCII
)
_PACKED = re.compile(r"\b(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)\.\d{6}([+-]\d{3})?", re.ASCII)
_MILLISECONDS = re.compile(r"/Date\((-?\d{1,15})")
_LOCAL = re.compile(
    r"(\d{1,2})([./])(\d{1,2})[./](\d{4}),? +(\d{1,2}):(\d\d):(\d\d)(?: *([AP])M)?", re.I | re.ASCII
)
_SHORT = re.compile(r"([A-Z][a-z]{2}) +(\d{1,2}) (\d\d):(\d\d):(\d\d)", re.ASCII)
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_EARLIEST, _LATEST = -62_135_596_800, 253_402_300_799
_HOUR = 3600


def read_time(text: str, day_first: bool = False) -> tuple[float, bool] | None:
    """Unix seconds, and whether a zone was written; None for what is no time. Without a zone UTC is
    taken.

    Args:
        day_first: of dates with slashes, whether the day stands before the month; with dots it
            does.
    """
    if match := _ISO.search(text):
        return _iso(match)
    if match := _MILLISECONDS.search(text):
        return int(match.group(1)) / 1000, True
    if match := _PACKED.search(text):
        seconds = _seconds(*(int(group) for group in match.groups()[:6]))
        return (
            None
            if seconds is None
            else (seconds - int(match.group(7) or 0) * 60, match.group(7) is not None)
        )
    match = _LOCAL.search(text)
    if match is None:
        return None
    left, dot, right, year, hour, minute, second, half = match.groups()
    day, month = (left, right) if dot == "." or day_first else (right, left)
    hours = int(hour) % 12 + (12 if half in {"P", "p"} else 0) if half else int(hour)
    seconds = _seconds(int(year), int(month), int(day), hours, int(minute), int(second))
    return None if seconds is None else (seconds, False)


def wants_day_first(texts: list[str]) -> bool:
    """Whether dates with slashes in a column must have the day first: a first number over twelve
    stands in one.
    """
    return any(match and int(match.group(1)) > 12 for match in map(_LOCAL.search, texts))


def read_short(text: str, year: int) -> float | None:
    """A time without a year, in that year."""
    match = _SHORT.match(text)
    if match is None or match.group(1) not in MONTHS:
        return None
    month = MONTHS.index(match.group(1)) + 1
    return _seconds(year, month, *(int(group) for group in match.groups()[1:]))


def _iso(match: "re.Match[str]") -> tuple[float, bool] | None:
    year, month, day, hour, minute, second, part, zone = match.groups()
    seconds = _seconds(int(year), int(month), int(day), int(hour), int(minute), int(second))
    if seconds is None:
        return None
    seconds += float("0." + part[1:]) if part else 0.0
    if not zone or zone == "Z":
        return seconds, bool(zone)
    sign = -1 if zone[0] == "-" else 1
    return seconds - sign * (int(zone[1:3]) * _HOUR + int(zone[-2:]) * 60), True


def _seconds(year: int, month: int, day: int, hour: int, minute: int, second: int) -> float | None:
    try:
        return datetime(year, month, day, hour, minute, min(second, 59), tzinfo=UTC).timestamp()
    except ValueError:
        return None


def plain_time(seconds: float) -> str:
    """RFC 3339, UTC, to the second; what no calendar has is the first or the last that it has."""
    known = min(max(round(seconds), _EARLIEST), _LATEST)
    return datetime.fromtimestamp(known, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
