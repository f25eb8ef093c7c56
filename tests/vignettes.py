"""PCs as a technician meets them (`data/vignettes.toml`), as rows: what is told, what is known of
the PC, what is seen, steps of which one must stand in the first two visits, steps that must not,
questions of which the next one must be one (none where any will do).
"""

import tomllib
from pathlib import Path

_DATA = tomllib.loads((Path(__file__).parent / "data" / "vignettes.toml").read_text())
_AT_HAND = ("bench", "rescue-stick", "backup", "mains-power", "maker-tests")
READY = dict.fromkeys(_AT_HAND, "yes")
NT = {**READY, "family": "nt", "firmware": "uefi"}
_FAMILIES = {
    "": {},
    "nt": NT,
    "linux": {**READY, "family": "linux", "firmware": "uefi"},
    "darwin": {**READY, "family": "darwin", "firmware": "uefi", "network": "yes"},
}
ERASE = tuple(_DATA["steps"]["erase"])
_GROUPS = {"@erase": ERASE, "@software": (*_DATA["steps"]["software"], *ERASE)}


def _facts(row):
    return {**_FAMILIES[row.get("ready", "")], **row.get("facts", {})}


def _steps(names):
    return tuple(step for name in names for step in _GROUPS.get(name, (name,)))


ROWS = [
    (
        row["says"],
        _facts(row),
        row["seen"],
        tuple(row["first"]),
        _steps(row["wrong"]),
        tuple(row.get("asked", ())),
    )
    for row in _DATA["pc"]
]
QUESTIONS = [
    (row["says"], row["facts"], row["seen"], tuple(row["asked"])) for row in _DATA["question"]
]
"""What is told, what is known, what is seen, and the questions of which the next one must be
one.
"""
SPOKEN = [
    (row["says"], _facts(row), tuple(row["causes"]), tuple(row["first"])) for row in _DATA["spoken"]
]
"""What a caller says, what is known, the causes of which one must lead, the steps of which one must
come early.
"""
