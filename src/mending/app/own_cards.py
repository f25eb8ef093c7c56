"""The shop's own words about steps, and the packs of one's own that are in use.

Own words are rows of `cards.toml` in a folder of their own, which is a pack like any other. A
change is checked before it is written; who changes it at the same time waits.
"""

import tomllib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec

from mending.case import Case, plan_of
from mending.knowledge import Card, Pack, card_faults, check_folder, load_pack
from mending.model import InputError, RefusedError, UsageError, clean_text
from mending.source import read_file, write_durably

FILE = "cards.toml"
_MOST_BYTES = 1 << 20
_MOST_LINE = 2000
_PATIENCE = 5.0
"""Seconds to wait for somebody else who changes the cards."""
_FIRST_VISITS = 2
"""Visits of a plan whose steps somebody is likely to do."""


class OwnCardResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="card/1"):
    """The shop's own words about a step as they are now; `file`: where they are kept."""

    step: str
    family: str
    text: str
    file: str


class PackResult(msgspec.Struct, frozen=True, kw_only=True):
    """A pack in use.

    Attributes:
        folder: empty for the one that Mending comes with.
        rows: how many of each kind.
        fault: what is wrong with it; it is not in use then.
    """

    folder: str
    rows: Mapping[str, int]
    fault: str = ""


class PacksResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="packs/1"):
    """The packs in use, those that stand first last, and what the shop could still say.

    Attributes:
        without_own: by step of the next visits of the cases at hand, how many cases plan it,
            where the shop has no words of its own for it.
    """

    packs: tuple[PackResult, ...]
    without_own: Mapping[str, int]


def own_text(folder: Path, step: str, family: str = "") -> str:
    """The shop's own words about a step; empty without any.

    Raises:
        InputError: the file cannot be read or is no table of cards.
    """
    rows = _rows(folder)
    return next((str(row.get("text", "")) for row in rows if _is_about(row, step, family)), "")


def keep_own_text(folder: Path, pack: Pack, step: str, text: str, family: str = "") -> None:
    """Put a text in place of the shop's own words about a step; an empty one takes them away.

    Raises:
        UsageError: the text does not fit; nothing is changed.
        InputError: the file cannot be read or written.
        RefusedError: somebody else is changing it.
    """
    _refuse_faulty(pack, step, text, family)
    with _held(folder):
        _put(folder, step, text, family)


def add_own_line(folder: Path, pack: Pack, step: str, line: str, family: str = "") -> None:
    """Add a line to the shop's own words about a step. Raises as `keep_own_text`."""
    added = clean_text(line, _MOST_LINE).strip()
    if not added:
        raise UsageError("There is nothing to add.", "Give the line that was typed.")
    with _held(folder):
        text = f"{own_text(folder, step, family)}{added}\n"
        _refuse_faulty(pack, step, text, family)
        _put(folder, step, text, family)


def keep_draft(folder: Path, step: str, text: str) -> Path:
    """Keep a text that does not fit, so that nobody has to type it again; returns where.

    Raises:
        InputError: it cannot be written.
    """
    with _held(folder):
        draft = folder / f"{step}.draft.txt"
        write_durably(draft, text.encode("utf-8"))
    return draft


def _refuse_faulty(pack: Pack, step: str, text: str, family: str) -> None:
    card = Card(step=step, family=family, text=text, own=True)
    faults = list(card_faults(pack, [card])) if text.strip() else []
    if faults:
        raise UsageError(faults[0], "Nothing was changed.")


def _put(folder: Path, step: str, text: str, family: str) -> None:
    rows = [row for row in _rows(folder) if not _is_about(row, step, family)]
    if text.strip():
        about = {"family": family} if family else {}
        rows.append({"step": step, **about, "text": text.rstrip() + "\n"})
    _write(folder, rows)


def packs_result(base: Path, folders: Sequence[Path], cases: Sequence[Case]) -> PacksResult:
    """The packs in use, each checked on top of those before it.

    Args:
        base: the folder of the pack that Mending comes with.
        folders: those of one's own.
    """
    pack = load_pack(base)
    found, sound = [PackResult(folder="", rows=_counts(pack))], list[Path]()
    for folder in folders:
        try:
            grown = load_pack(base, [*sound, folder])
            found.append(PackResult(folder=str(folder), rows=check_folder(folder)))
        except InputError as error:
            found.append(PackResult(folder=str(folder), rows={}, fault=error.says))
        else:
            pack, sound = grown, [*sound, folder]
    return PacksResult(packs=tuple(found), without_own=_without_own(pack, cases))


def _counts(pack: Pack) -> dict[str, int]:
    kinds = ("facts", "signs", "causes", "steps", "cards")
    return {name: len(getattr(pack, name)) for name in kinds}


def _without_own(pack: Pack, cases: Sequence[Case]) -> dict[str, int]:
    own = {card.step for card in pack.cards if card.own}
    counts = Counter(
        step.id
        for case in cases
        if case.state.closed is None
        for visit in plan_of(case.state, pack).visits[:_FIRST_VISITS]
        for step in visit.steps
        if step.id not in own
    )
    return dict(counts.most_common())


def _is_about(row: Mapping[str, Any], step: str, family: str) -> bool:
    return row.get("step") == step and row.get("family", "") == family


def _rows(folder: Path) -> list[dict[str, Any]]:
    file = folder / FILE
    if not file.exists() and not file.is_symlink():
        return []
    try:
        data = tomllib.loads(read_file(file, _MOST_BYTES, links=False).decode("utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(f"{file} is not TOML: {error}.", "Nothing was changed.") from error
    rows = data.get("card", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise InputError(f"{file}: [[card]] tables are needed.", "Nothing was changed.")
    return rows


def _write(folder: Path, rows: Sequence[Mapping[str, Any]]) -> None:
    import tomli_w  # noqa: PLC0415 - lazy: cards are seldom changed

    text = tomli_w.dumps({"card": list(rows)}, multiline_strings=True)
    write_durably(folder / FILE, text.encode("utf-8"))


@contextmanager
def _held(folder: Path) -> Iterator[None]:
    import filelock  # noqa: PLC0415 - lazy: as above

    try:
        folder.mkdir(parents=True, exist_ok=True)
        with filelock.FileLock(folder / "lock", timeout=_PATIENCE):
            yield
    except filelock.Timeout as error:
        raise RefusedError("Somebody else is changing the cards.", "Try again.") from error
    except OSError as error:
        raise InputError(f"{folder} cannot be written: {error.strerror or error}.") from error
