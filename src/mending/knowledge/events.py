"""The table of log entries that tell something: starts, ends, changes, errors."""

import re
from collections.abc import Mapping
from enum import StrEnum
from functools import cache
from pathlib import Path

import msgspec

from mending.knowledge.load import Folder, converted, toml_table
from mending.model import InputError


class EventKind(StrEnum):
    """What an entry of a log can tell."""

    START = "start"
    SIGNED_IN = "signed-in"
    CLEAN_STOP = "clean-stop"
    UNCLEAN_STOP = "unclean-stop"
    CRASH = "crash"
    SLEEP = "sleep"
    WAKE = "wake"
    FAILED = "failed"
    INSTALLED = "installed"
    REMOVED = "removed"
    LOADED = "loaded"
    PLUGGED = "plugged"
    DISK_ERROR = "disk-error"
    FILE_SYSTEM_ERROR = "file-system-error"
    HARDWARE_ERROR = "hardware-error"
    TOO_HOT = "too-hot"
    REPAIR_TRIED = "repair-tried"
    RESTORE_POINT = "restore-point"
    CLOCK_SET = "clock-set"
    POWER_KEY = "power-key"
    POWER = "power"
    RESET_REASON = "reset-reason"


class NumberedRow(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An entry known by who wrote it and by its number; no numbers: all of that author's. `hand`
    names values that are set where a person held the power key.
    """

    by: str
    numbers: tuple[int, ...]
    kind: EventKind
    what: str = ""
    name: tuple[str, ...] = ()
    code: tuple[str, ...] = ()
    hand: tuple[str, ...] = ()
    before: bool = False


class WordsRow(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An entry known by its words. `by` may be empty: anybody's."""

    mark: str
    kind: EventKind
    pattern: str
    by: str = ""
    what: str = ""

    @property
    def expression(self) -> "re.Pattern[str]":
        """The pattern, ready to search with."""
        return re.compile(self.pattern)


class EventTable(msgspec.Struct, frozen=True):
    """Both kinds of rows; the numbered ones by number, those for any number under -1."""

    numbered: Mapping[int, tuple[NumberedRow, ...]]
    words: tuple[WordsRow, ...]


@cache
def base_events() -> EventTable:
    """The table that Mending comes with."""
    return load_events(Path(__file__).parent / "packs" / "base")


def load_events(folder: Folder) -> EventTable:
    """Read and check the table.

    Raises:
        InputError: it is missing or not TOML, or a row is wrong; says which.
    """
    table = toml_table(folder, "events.toml")
    numbered: dict[int, tuple[NumberedRow, ...]] = {}
    for place, raw in enumerate(table.get("numbered", []), 1):
        row = converted(raw, NumberedRow, f"events.toml, numbered row {place}")
        for number in row.numbers or (-1,):
            numbered[number] = (*numbered.get(number, ()), row)
    words = [
        converted(raw, WordsRow, f"events.toml, row {place}")
        for place, raw in enumerate(table.get("words", []), 1)
    ]
    for word in words:
        try:
            re.compile(word.pattern)
        except re.error as error:
            raise InputError(
                f"Knowledge pack: events.toml, {word.mark!r}: the pattern is none: {error}."
            ) from error
    return EventTable(numbered, tuple(words))
