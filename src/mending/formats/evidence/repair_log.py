"""The log that an automatic repair of the nt family leaves behind: what it tested, what it found,
what it tried.

It is known by its form, not by its words: sections under a line of dashes, with pairs of a name and
a value, in which a result stands with an error code. Source: such logs; their form is not written
down anywhere.
"""

import re

import msgspec

from mending.model import clean_text

_PAIR = re.compile(r"^\s*([A-Za-z][\w ()/.-]{0,60}?)\s*[:=]\s*(.*)$")
_DASHES = re.compile(r"^\s*-{8,}\s*$")
_CODE = re.compile(r"0x([0-9a-f]{1,8})\b", re.I)
_MILLISECONDS = re.compile(r"(\d+)\s*ms\b")
_MOST, _LINES = 200, 20_000


class RepairLine(msgspec.Struct, frozen=True):
    """Something that was tested or tried: its name, how it ended in the log's words, error code,
    milliseconds.
    """

    name: str
    result: str
    code: int | None
    milliseconds: int | None
    line: int

    @property
    def good(self) -> bool:
        """Whether it ended without an error."""
        return self.code == 0


class RepairLog(msgspec.Struct, frozen=True):
    """A whole log. `found` are the causes that it named, in its own words."""

    tested: tuple[RepairLine, ...]
    found: tuple[str, ...]
    tried: tuple[RepairLine, ...]


def read(text: str) -> RepairLog | None:
    """The log in a text; None where it has not the form of one."""
    tested: list[RepairLine] = []
    tried: list[RepairLine] = []
    found: list[str] = []
    heading, previous = "", ""
    pairs: dict[str, tuple[str, int]] = {}
    for number, line in enumerate([*text.splitlines()[:_LINES], ""], 1):
        plain = clean_text(line, 300).strip()
        if _DASHES.match(plain):
            heading = previous
            continue
        match = _PAIR.match(plain)
        if match and not ("cause" in heading.casefold() and not _is_known(match.group(1))):
            pairs[match.group(1).casefold()] = (match.group(2), number)
        elif (
            plain
            and "cause" in heading.casefold()
            and not plain.endswith(":")
            and len(found) < _MOST
        ):
            found.append(plain)
        if not plain:
            _take(pairs, heading, tested, tried)
            pairs = {}
        previous = plain or previous
    if not tested and not tried:
        return None
    return RepairLog(tuple(tested[:_MOST]), tuple(found), tuple(tried[:_MOST]))


def _is_known(name: str) -> bool:
    return (
        name.casefold() in {"name", "result"}
        or "action" in name.casefold()
        or "time" in name.casefold()
    )


def _take(
    pairs: dict[str, tuple[str, int]],
    heading: str,
    tested: list[RepairLine],
    tried: list[RepairLine],
) -> None:
    """A section counts when it has a result with an error code; one with an action was a try, else
    it was a test.
    """
    result = next((value for name, value in pairs.items() if "result" in name), None)
    if result is None or not (code := _CODE.search(result[0])):
        return
    action = next((value for name, value in pairs.items() if "action" in name), None)
    name = action or next(
        (value for key, value in pairs.items() if key.endswith("name")), (heading, result[1])
    )
    took = next(
        (match for value, _ in pairs.values() if (match := _MILLISECONDS.search(value))), None
    )
    words = result[0].split(". ")[0]
    row = RepairLine(
        name[0], words, int(code.group(1), 16), int(took.group(1)) if took else None, name[1]
    )
    (tried if action else tested).append(row)
