"""The tables of codes and messages: stop codes, status codes, messages on the screen, and where to
look first.
"""

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from mending.knowledge.load import Folder, converted, kept, toml_table
from mending.model import InputError, Phase

_CLASSES = {
    "memory",
    "drive",
    "file-system",
    "boot-volume",
    "driver",
    "firmware",
    "power-or-heat",
    "update",
    "added-software",
}


class Stop(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A stop code or a status code.

    Attributes:
        name: as the screen shows it.
        suspects: classes of what is behind it, the usual one first.
        parameters: what the first, second, ... number behind it means, as far as that is known for
            certain.
        causes: what is behind it where it stops a PC, by weight; empty where it does not tell.
        family: the one family of systems that has it; empty: several.
        source: where the row is from; `sure`: how sure it is.
    """

    number: int
    name: str
    says: str
    suspects: tuple[str, ...]
    parameters: tuple[str, ...] = ()
    causes: Mapping[str, float] = {}
    family: str = ""
    source: str = ""
    sure: str = ""


class Message(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A message on the screen.

    Attributes:
        by: what prints it.
        phase: where the start fails that shows so.
        implies: answers to signs that follow from it.
        causes: what is behind it where it stops a PC, by weight; empty where it does not tell.
        family: the one family of systems that has it; empty: several.
    """

    by: str
    phase: Phase
    pattern: str
    says: str
    suspects: tuple[str, ...]
    source: str = ""
    sure: str = ""
    implies: Mapping[str, str] = {}
    causes: Mapping[str, float] = {}
    family: str = ""

    @property
    def expression(self) -> "re.Pattern[str]":
        """The pattern, ready to search with; case does not count."""
        return re.compile(self.pattern, re.IGNORECASE)

    @property
    def plain(self) -> str:
        """The pattern without its signs, to compare half-remembered words with."""
        words = re.sub(r"\\[a-zA-Z][*+?]?|\([^()]*\)|\[[^\]]*\]", " ", self.pattern)
        return " ".join(re.sub(r"[^\w/ -]", " ", words.split("|")[0]).split())


class Codes(msgspec.Struct, frozen=True):
    """All tables. `looks` says for each class of suspects where to look first."""

    stops: Mapping[int, Stop]
    statuses: Mapping[int, Stop]
    messages: tuple[Message, ...]
    looks: Mapping[str, str]


def base_codes(parsed_in: Path | None = None) -> Codes:
    """The tables that Mending comes with.

    Args:
        parsed_in: a folder where the parsed tables are kept from call to call; None keeps none.
    """
    folder = Path(__file__).parent / "packs" / "base"
    if parsed_in is None:
        return load_codes(folder)
    tables = ("suspects", "stops", "statuses", "messages", "causes", "facts")
    names = tuple(f"{name}.toml" for name in tables)
    return kept(Codes, folder, names, lambda: load_codes(folder), parsed_in)


def load_codes(folder: Folder) -> Codes:
    """Read and check the tables.

    Raises:
        InputError: a file is missing or not TOML, or a row is wrong; says which file and row.
    """
    looks = converted(
        toml_table(folder, "suspects.toml").get("suspects"), dict[str, str], "suspects.toml"
    )
    if sorted(looks) != sorted(_CLASSES):
        raise InputError(
            f"Knowledge pack: suspects.toml: exactly these are needed: {', '.join(_CLASSES)}."
        )
    known = _Known(_ids(folder, "causes", "cause"), _families(folder))
    stops, statuses = (_numbered(folder, name, known) for name in ("stops", "statuses"))
    messages = []
    for number, row in enumerate(_rows(folder, "messages"), 1):
        where = f"messages.toml, message {number}"
        message = converted(row, Message, where)
        _check(message, where, known)
        try:
            re.compile(message.pattern)
        except re.error as error:
            raise InputError(f"Knowledge pack: {where}: the pattern is none: {error}.") from error
        messages.append(message)
    return Codes(stops, statuses, tuple(messages), looks)


class _Known(msgspec.Struct, frozen=True):
    """What rows may name: causes, and families of systems."""

    causes: frozenset[str]
    families: frozenset[str]


def _ids(folder: Folder, name: str, row: str) -> frozenset[str]:
    return frozenset(
        str(each.get("id")) for each in toml_table(folder, f"{name}.toml").get(row, [])
    )


def _families(folder: Folder) -> frozenset[str]:
    rows = toml_table(folder, "facts.toml").get("fact", [])
    answers = [each["answers"] for each in rows if each.get("id") == "family"]
    return frozenset(name for each in answers for name in each)


def _numbered(folder: Folder, name: str, known: _Known) -> dict[int, Stop]:
    found: dict[int, Stop] = {}
    for number, row in enumerate(_rows(folder, name), 1):
        stop = converted(row, Stop, f"{name}.toml, row {number}")
        where = f"{name}.toml, {stop.name}"
        _check(stop, where, known)
        if stop.number in found or any(stop.name == other.name for other in found.values()):
            raise InputError(f"Knowledge pack: {where}: the number or the name is used twice.")
        found[stop.number] = stop
    return found


def _rows(folder: Folder, name: str) -> list[Any]:
    """Rows with what is the same for the whole file filled in."""
    table = toml_table(folder, f"{name}.toml")
    shared = {key: table[key] for key in ("source", "sure", "family") if key in table}
    rows = table.get(name, [])
    if (
        not isinstance(rows, list)
        or not all(isinstance(row, dict) for row in rows)
        or not {"source", "sure"} <= set(shared)
    ):
        raise InputError(
            f"Knowledge pack: {name}.toml: a source, a sureness and a list of rows are needed."
        )
    return [{**shared, **row} for row in rows]


def _check(row: Stop | Message, where: str, known: _Known) -> None:
    """Raise InputError for a class, a cause or a family that is not there."""
    unknown = [suspect for suspect in row.suspects if suspect not in _CLASSES]
    if unknown or not row.suspects:
        raise InputError(
            f"Knowledge pack: {where}: suspects: {unknown[0] if unknown else 'none'} is no class."
        )
    for cause, weight in row.causes.items():
        if cause not in known.causes:
            raise InputError(f"Knowledge pack: {where}, causes: there is no cause {cause!r}.")
        if not weight > 0:
            raise InputError(f"Knowledge pack: {where}, causes.{cause}: the weight is not above 0.")
    if row.family and row.family not in known.families:
        raise InputError(f"Knowledge pack: {where}: there is no family {row.family!r}.")
