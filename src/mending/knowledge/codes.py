"""The tables of codes and messages: stop codes, status codes, messages on the screen, and where to
look first.
"""

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from mending.knowledge.kept import kept
from mending.knowledge.load import Folder, converted, toml_table
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
        source: where the row is from; `sure`: how sure it is.
    """

    number: int
    name: str
    says: str
    suspects: tuple[str, ...]
    parameters: tuple[str, ...] = ()
    source: str = ""
    sure: str = ""


class Message(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A message on the screen.

    Attributes:
        by: what prints it.
        phase: where the start fails that shows so.
        implies: answers to signs that follow from it.
    """

    by: str
    phase: Phase
    pattern: str
    says: str
    suspects: tuple[str, ...]
    source: str = ""
    sure: str = ""
    implies: Mapping[str, str] = {}

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
    names = ("suspects.toml", "stops.toml", "statuses.toml", "messages.toml")
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
    stops, statuses = (_numbered(folder, name) for name in ("stops", "statuses"))
    messages = []
    for number, row in enumerate(_rows(folder, "messages"), 1):
        where = f"messages.toml, message {number}"
        message = converted(row, Message, where)
        _check(message.suspects, where)
        try:
            re.compile(message.pattern)
        except re.error as error:
            raise InputError(f"Knowledge pack: {where}: the pattern is none: {error}.") from error
        messages.append(message)
    return Codes(stops, statuses, tuple(messages), looks)


def _numbered(folder: Folder, name: str) -> dict[int, Stop]:
    found: dict[int, Stop] = {}
    for number, row in enumerate(_rows(folder, name), 1):
        stop = converted(row, Stop, f"{name}.toml, row {number}")
        where = f"{name}.toml, {stop.name}"
        _check(stop.suspects, where)
        if stop.number in found or any(stop.name == other.name for other in found.values()):
            raise InputError(f"Knowledge pack: {where}: the number or the name is used twice.")
        found[stop.number] = stop
    return found


def _rows(folder: Folder, name: str) -> list[Any]:
    """Rows with what is the same for the whole file filled in."""
    table = toml_table(folder, f"{name}.toml")
    shared = {key: table[key] for key in ("source", "sure") if key in table}
    rows = table.get(name, [])
    if (
        not isinstance(rows, list)
        or not all(isinstance(row, dict) for row in rows)
        or len(shared) < 2
    ):
        raise InputError(
            f"Knowledge pack: {name}.toml: a source, a sureness and a list of rows are needed."
        )
    return [{**shared, **row} for row in rows]


def _check(suspects: tuple[str, ...], where: str) -> None:
    unknown = [suspect for suspect in suspects if suspect not in _CLASSES]
    if unknown or not suspects:
        raise InputError(
            f"Knowledge pack: {where}: suspects: {unknown[0] if unknown else 'none'} is no class."
        )
