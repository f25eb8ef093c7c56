"""Crash evidence judged: runs, loops, the onset, suspects, restore points, clues for causes."""

from mending.crash.judge.analysis import analyse
from mending.crash.judge.onset import exact_p, find_onset, holm
from mending.crash.judge.suspects import clues_in, codes_in_records

__all__ = [
    "analyse",
    "clues_in",
    "codes_in_records",
    "exact_p",
    "find_onset",
    "holm",
]
