"""From TOML files to a checked pack. Every fault is named with its file, table and key."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from hashlib import blake2b
from pathlib import Path
from typing import Any, Protocol, TypeVar

import msgspec

from mending.knowledge.cards import Card
from mending.knowledge.check import check_pack
from mending.knowledge.schema import Cause, Clue, Grades, Pack, Screen, Sign, Speech
from mending.knowledge.steps import Precaution, Resort, Step, ToolReport, Visit
from mending.model import PHASES, InputError

# Parsed copies of knowledge, kept from call to call.
#
# Parsing and checking TOML takes longer than everything else that a short command does. A copy
# carries in its name a digest of the files it was made from and of the code that gives them their
# shape; it saves time and nothing else. One that is missing, cannot be decoded, or cannot be
# written is passed over.


T = TypeVar("T")
_CODE = ("schema.py", "steps.py", "cards.py", "check.py", "codes.py", "load.py")


def kept(
    kind: type[T], folder: Any, names: Iterable[str], make: Callable[[], T], parsed_in: Path
) -> T:
    """What `make` gives, out of a copy where there is one.

    Args:
        kind: the type of the record.
        folder: where the files are that it is made from.
        names: of these files.
        parsed_in: where copies are kept.

    Raises:
        InputError: a file cannot be read, or as `make` does.
    """
    copy = parsed_in / f"{kind.__name__.lower()}-{_digest(folder, names)}.msgpack"
    try:
        return msgspec.msgpack.decode(copy.read_bytes(), type=kind)
    except (OSError, msgspec.DecodeError):
        made = make()
    with suppress(OSError):
        _put(msgspec.msgpack.encode(made), copy)
    return made


def _put(data: bytes, copy: Path) -> None:
    """Write a copy whole or not at all, and take away those of other files."""
    from tempfile import NamedTemporaryFile  # noqa: PLC0415 - lazy: copies are seldom made

    copy.parent.mkdir(parents=True, exist_ok=True)
    with NamedTemporaryFile(dir=copy.parent, prefix=".new-", delete=False) as file:
        file.write(data)
    Path(file.name).replace(copy)
    for older in copy.parent.glob(f"{copy.name.partition('-')[0]}-*.msgpack"):
        if older != copy:
            older.unlink()


def _digest(folder: Any, names: Iterable[str]) -> str:
    digest = blake2b(digest_size=16)
    code = Path(__file__).parent
    for place, name in [(folder, name) for name in names] + [(code, name) for name in _CODE]:
        try:
            digest.update(place.joinpath(name).read_bytes())
        except OSError as error:
            raise InputError(f"Knowledge pack: {name} cannot be read: {error}.") from error
    return digest.hexdigest()


Row = TypeVar("Row", Sign, Screen, Clue, Cause, Step, Precaution, Resort, ToolReport)
ROWS: Mapping[str, tuple[str, type[msgspec.Struct]]] = {
    "facts": ("fact", Sign),
    "signs": ("sign", Sign),
    "clues": ("clue", Clue),
    "causes": ("cause", Cause),
    "steps": ("step", Step),
    "visits": ("visit", Visit),
    "precautions": ("precaution", Precaution),
    "screens": ("screen", Screen),
    "resorts": ("resort", Resort),
    "tool_reports": ("report", ToolReport),
    "cards": ("card", Card),
}
"""By file: the name of its tables, and what a row of it is."""
_TABLES = {name: table for name, (table, _) in ROWS.items()}


_RENAMED: Mapping[str, Mapping[str, str]] = {
    "facts": {"take_in": "asked_at_open", "first": "call_order", "pointless": "not_asked_if"},
    "signs": {"pointless": "not_asked_if"},
    "causes": {"hidden": "missed_by_trace"},
    "steps": {"tells": "worked_if", "rather_after": "after_if_possible"},
}
"""By table: what keys were called once, and are called now. Packs with the old names are read."""
_CARDS = "cards"
"""Rows of one's own stand before the others, and take no one's place."""
_KEYS = {"visits": "place", "screens": "shown"}
"""What a row is known by where that is not its id."""


class Folder(Protocol):
    """What is needed of a path: packs may also lie inside an installed archive."""

    def joinpath(self, name: str, /) -> Any:
        """The file `name` in it."""


BASE_FOLDER = Path(__file__).parent / "packs" / "base"
"""Where the pack is that Mending comes with."""
_MOST_BYTES = 4 << 20
"""Of a file in a pack of one's own."""
_base: list[Pack] = []
"""The pack that Mending comes with, once it was asked for."""


def base_pack(parsed_in: Path | None = None, more: Sequence[Path] = ()) -> Pack:
    """The pack that Mending comes with, parsed and checked. The first call decides what it is.

    Args:
        parsed_in: a folder where the parsed pack is kept from call to call; None keeps none.
        more: folders with rows that are added, as in `load_pack`.
    """
    if not _base:
        folder = BASE_FOLDER
        if parsed_in is None or more:
            _base.append(load_pack(folder, more))
        else:
            names = [f"{name}.toml" for name in ("grades", "speech", *_TABLES)]
            _base.append(kept(Pack, folder, names, lambda: load_pack(folder), parsed_in))
    return _base[0]


def load_pack(folder: Folder | Path, more: Sequence[Path] = ()) -> Pack:
    """Read and check a pack.

    Args:
        more: folders with some of the files: their rows come on top, and take the place of those
            with the same id (visits: the same place).

    Raises:
        InputError: a file is missing or not TOML, or a row is wrong; says which file, table and
            key.
    """
    raw = {name: toml_table(folder, f"{name}.toml") for name in ("grades", "speech", *_TABLES)}
    for extra in more:
        _add(raw, extra)
    screens = _rows(raw, "screens", Screen)
    pack = Pack(
        grades=converted(raw["grades"], Grades, "grades.toml"),
        speech=converted(raw["speech"], Speech, "speech.toml"),
        facts=_rows(raw, "facts", Sign),
        signs=_with_screens(_rows(raw, "signs", Sign), screens),
        clues=_rows(raw, "clues", Clue),
        causes=_rows(raw, "causes", Cause),
        steps=_rows(raw, "steps", Step),
        visits={visit.place: visit for visit in _visits(raw)},
        precautions=_rows(raw, "precautions", Precaution),
        screens=screens,
        resorts=_rows(raw, "resorts", Resort),
        tool_reports=_rows(raw, "tool_reports", ToolReport),
        cards=_cards(raw),
    )
    faults = check_pack(pack)
    if faults:
        others = f" ({len(faults) - 1} more faults)" if len(faults) > 1 else ""
        raise InputError(f"Knowledge pack: {faults[0]}{others}")
    return pack


def _add(raw: dict[str, dict[str, Any]], folder: Path) -> None:
    """Put the rows of one more folder on top."""
    there = _files_in(folder)
    for name in there:
        new = {name: toml_table(folder, f"{name}.toml")}
        if name in _RENAMED:
            new[name] = {_TABLES[name]: [_with_new_names(name, row) for row in _list(new, name)]}
        if name == _CARDS:
            rows = _list(new, name)
            own = [row | {"own": True} if isinstance(row, dict) else row for row in rows]
            raw[name] = {_TABLES[name]: [*own, *_list(raw, name)]}
            continue
        key = _KEYS.get(name, "id")
        rows = _list(new, name)
        ids = {row.get(key) for row in rows if isinstance(row, dict)}
        kept = [row for row in _list(raw, name) if row.get(key) not in ids]
        raw[name] = {_TABLES[name]: [*kept, *rows]}


def _with_new_names(name: str, row: Any) -> Any:
    """A row whose keys are called as they are now; one that has both names keeps them, and is
    refused with the old one.
    """
    if not isinstance(row, dict):
        return row
    now = {old: new for old, new in _RENAMED[name].items() if old in row and new not in row}
    return {now.get(key, key): value for key, value in row.items()}


def old_names(folder: Path) -> list[str]:
    """A sentence for each key in a pack of one's own that is called otherwise now.

    Raises:
        InputError: as `check_folder`.
    """
    told = []
    for name in set(_files_in(folder)) & set(_RENAMED):
        rows = _list({name: toml_table(folder, f"{name}.toml")}, name)
        keys = {key for row in rows if isinstance(row, dict) for key in row}
        told += [
            f"{folder / name}.toml: the key {old} is called {new} now; the old name is still read."
            for old, new in _RENAMED[name].items()
            if old in keys
        ]
    return sorted(told)


def _files_in(folder: Path) -> list[str]:
    """The tables of a pack of one's own: plain files of a size that somebody may have written."""
    there = [
        name for name in _TABLES if (file := folder / f"{name}.toml").exists() or file.is_symlink()
    ]
    if not there:
        files = ", ".join(f"{name}.toml" for name in _TABLES)
        raise InputError(f"Knowledge pack: {folder} holds none of {files}.")
    for name in there:
        file = folder / f"{name}.toml"
        if file.is_symlink():
            raise InputError(f"Knowledge pack: {file} is a link, and links are not followed.")
        if file.is_file() and file.stat().st_size > _MOST_BYTES:
            raise InputError(f"Knowledge pack: {file} has more than {_MOST_BYTES >> 20} MiB.")
    return there


def check_folder(folder: Path) -> dict[str, int]:
    """How many rows of each kind a pack of one's own has.

    Raises:
        InputError: it holds none, or a file cannot be read.
    """
    return {
        name: len(_list({name: toml_table(folder, f"{name}.toml")}, name))
        for name in _files_in(folder)
    }


def toml_table(folder: Folder | Path, name: str) -> dict[str, Any]:
    """A TOML file of a pack.

    Raises:
        InputError
    """
    import tomllib  # noqa: PLC0415 - lazy: parsed copies are kept

    try:
        return tomllib.loads(_text(folder.joinpath(name)))
    except RecursionError as error:
        raise InputError(f"Knowledge pack: {name} is nested too deep.") from error
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"Knowledge pack: {name} cannot be read: {error}.") from error
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"Knowledge pack: {name} is not TOML: {error}.") from error


def _text(file: Any) -> str:
    """The text of a file of a pack; one of a person's own has to be a plain file."""
    if isinstance(file, Path) and file.exists() and not file.is_file():
        raise InputError(f"Knowledge pack: {file.name} is no plain file.")
    return str(file.read_text(encoding="utf-8"))


def _rows(raw: Mapping[str, dict[str, Any]], name: str, kind: type[Row]) -> dict[str, Row]:
    found: dict[str, Row] = {}
    key = _KEYS.get(name, "id")
    for number, table in enumerate(_list(raw, name), 1):
        label = table.get(key, number) if isinstance(table, dict) else number
        row = converted(table, kind, f"{name}.toml, {_TABLES[name]} {label}")
        known = getattr(row, key)
        if known in found:
            raise InputError(
                f"Knowledge pack: {name}.toml, {_TABLES[name]} {known}: the {key} is used twice."
            )
        found[known] = row
    return found


def _with_screens(signs: dict[str, Sign], screens: Mapping[str, Screen]) -> dict[str, Sign]:
    """The signs with what screens tell of their answers.

    Raises:
        InputError: a screen that is no answer, or an answer of which two files tell.
    """
    whole = dict(signs)
    for screen in screens.values():
        name, answer = screen.answers
        where = f"screens.toml, screen {screen.shown}"
        if name not in whole or answer not in whole[name].answers:
            raise InputError(f"Knowledge pack: {where}: there is no such answer to a sign.")
        row = whole[name].answers[answer]
        if row.reaches or row.stops_before or row.implies:
            raise InputError(
                f"Knowledge pack: {where}: signs.toml tells of phases of {answer} too."
            )
        passed = screen.passed if screen.passed is not PHASES[0] else None
        told = msgspec.structs.replace(
            row, reaches=passed, stops_before=screen.stops_before, implies=screen.implies
        )
        answers = {**whole[name].answers, answer: told}
        whole[name] = msgspec.structs.replace(whole[name], answers=answers)
    return whole


def _cards(raw: Mapping[str, dict[str, Any]]) -> tuple[Card, ...]:
    return tuple(
        converted(table, Card, f"cards.toml, card {_name_of(table, number)}")
        for number, table in enumerate(_list(raw, _CARDS), 1)
    )


def _name_of(table: object, number: int) -> object:
    return table.get("step", number) if isinstance(table, dict) else number


def _visits(raw: Mapping[str, dict[str, Any]]) -> list[Visit]:
    return [
        converted(table, Visit, f"visits.toml, visit {number}")
        for number, table in enumerate(_list(raw, "visits"), 1)
    ]


def _list(raw: Mapping[str, dict[str, Any]], name: str) -> list[Any]:
    rows = raw[name].get(_TABLES[name], [])
    if not isinstance(rows, list):
        raise InputError(f"Knowledge pack: {name}.toml: [[{_TABLES[name]}]] tables are needed.")
    return rows


def converted(value: object, kind: type[T], where: str) -> T:
    """A value as a record.

    Raises:
        InputError: it names the place.
    """
    try:
        return msgspec.convert(value, kind)
    except msgspec.ValidationError as error:
        raise InputError(f"Knowledge pack: {where}: {error}.") from error
