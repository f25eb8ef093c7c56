"""Crash evidence judged: runs, loops, the onset, suspects, restore points, clues for causes."""

from mending.crash.judge.analysis import analyse
from mending.crash.judge.clues import clues_in
from mending.crash.judge.onset import exact_p, find_onset, holm
from mending.crash.judge.screens import SeenCode, clues_of_codes, codes_in

__all__ = [
    "SeenCode",
    "analyse",
    "clues_in",
    "clues_of_codes",
    "codes_in",
    "exact_p",
    "find_onset",
    "holm",
]
