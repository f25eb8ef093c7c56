"""Times of the nt family: units of 100 ns since the beginning of 1601, UTC.

Source: the published description of the family's data types, FILETIME.
"""

_EPOCH = 11_644_473_600
"""Seconds from the beginning of 1601 to that of 1970."""
_TICKS = 10_000_000
"""Units in a second."""


def unix_seconds(ticks: int) -> float:
    """Seconds since the beginning of 1970; negative before it."""
    return ticks / _TICKS - _EPOCH


def nt_ticks(seconds: float) -> int:
    """The time of the nt family for seconds since the beginning of 1970."""
    return int((seconds + _EPOCH) * _TICKS)
