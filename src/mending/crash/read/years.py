"""The years of a log that writes none."""

import itertools
import re
from collections.abc import Sequence
from datetime import UTC, datetime

_DAY = 86_400.0
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_FIRST_DAY = re.compile(r"^Jan {1,2}0?1 ")
_BACK, _LEAP, _LATE = 6, 2, 11
"""Months by which a new year falls back, from which a leap is none of the calendar's, and from
which on in a year the next one may begin unseen.
"""


class Years:
    """The year of each line: it grows where the months begin again.

    A clock without a battery begins anew with January, too. Such lines are told by the leap with
    which the clock is set right again, or by coming on the first day of January out of the middle
    of a year; they say nothing of years.

    Args:
        shorts: the times of all lines, without years.
        modified: Unix seconds at which the file was written last: its lines are not after that.
    """

    def __init__(self, shorts: Sequence[str], modified: float) -> None:
        self._strays = _strays(shorts)
        months = [
            _month(short) for number, short in enumerate(shorts) if number not in self._strays
        ]
        turns = sum(later < month - _BACK for month, later in itertools.pairwise(months))
        last = datetime.fromtimestamp(modified + _DAY, UTC)
        ends = last.year if not months or months[-1] <= last.month else last.year - 1
        self.year, self._month = ends - turns, months[0] if months else 1
        self._number = -1

    def next(self, short: str) -> int:
        """The year of the next line."""
        if short:
            self._number += 1
        if short and self._number not in self._strays:
            month = _month(short)
            self.year += month < self._month - _BACK
            self._month = month
        return self.year


def _strays(shorts: Sequence[str]) -> set[int]:
    """Lines of clocks that began anew, by number."""
    months = [_month(short) for short in shorts]
    found = set[int]()
    for number in range(1, len(months)):
        before = months[number - 1]
        if months[number] >= before - _BACK or number in found:
            continue
        end = number + 1
        while end < len(months) and 0 <= months[end] - months[end - 1] < _LEAP:
            end += 1
        leaps_back = end < len(months) and months[end] >= before
        unseen = before < _LATE and _FIRST_DAY.match(shorts[number]) is not None
        if leaps_back or unseen:
            found.update(range(number, end))
    return found


def _month(short: str) -> int:
    name = short[:3]
    return _MONTHS.index(name) + 1 if name in _MONTHS else 1
