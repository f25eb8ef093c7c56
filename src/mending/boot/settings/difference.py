"""How the settings of two moments differ: what the start depends on first, the rest counted."""

import hashlib
import re
from collections import Counter
from collections.abc import Iterator

import msgspec

from mending.boot.settings.hive_set import HiveSet
from mending.boot.settings.listing import Setting, listed
from mending.disk.hives import Hive, walk
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import plain_time
from mending.model.nt_time import unix_seconds

CHANGES = ("added", "removed", "changed")
_MOST_KEYS = 500_000
_ROOT = re.compile(r"\\systemroot\\|%systemroot%\\|\\\?\?\\")


class SettingChange(msgspec.Struct, frozen=True, kw_only=True):
    """One setting that differs. `was` and `is_` are empty where it is not there.

    Attributes:
        change: `added removed changed`, from the first side to the second.
        decides: whether the start depends on it.
    """

    kind: str
    name: str
    change: str
    was: str
    is_: str = msgspec.field(name="is")
    decides: bool


class SideResult(msgspec.Struct, frozen=True, kw_only=True):
    """One side: as it was named, where its hives lie, and when the system's was written last."""

    name: str
    home: str
    written: str | None


class CompareResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="compare/1"
):
    """Two moments set against each other.

    Attributes:
        changes: those that the start depends on first.
        others: keys of the hives that differ otherwise, by hive.
    """

    sides: tuple[SideResult, SideResult]
    changes: tuple[SettingChange, ...]
    others: dict[str, int]
    notes: tuple[str, ...]


def compared(names: tuple[str, str], before: HiveSet, after: HiveSet) -> CompareResult:
    """What is otherwise on the second side. A hive that one side lacks is left out."""
    notes_of_both = (*before.notes, *after.notes, *_lacking(before, after))
    before, after = _without(before, after), _without(after, before)
    first, notes = listed(before)
    second, more = listed(after)
    found = []
    for key in first.keys() | second.keys():
        was, now = first.get(key), second.get(key)
        if was is None or now is None or _plain(was.says) != _plain(now.says):
            found.append(_change(was, now))
    pairs = {"system": (before.system, after.system), "software": (before.programs, after.programs)}
    others = {
        name: _differing(one, other)
        for name, (one, other) in pairs.items()
        if one is not None and other is not None
    }
    return CompareResult(
        sides=(_side(names[0], before), _side(names[1], after)),
        changes=tuple(sorted(found, key=_rank)),
        others=others,
        notes=tuple(dict.fromkeys((*notes_of_both, *notes, *more))),
    )


def _plain(says: str) -> str:
    """Without what means the same: case, and how the system's folder is written."""
    return _ROOT.sub("", says.casefold())


def _lacking(one: HiveSet, other: HiveSet) -> Iterator[str]:
    if (one.system is None) != (other.system is None):
        yield "One side has no system hive: drivers, services and devices are not compared."
    if (one.programs is None) != (other.programs is None):
        yield "One side has no hive of programs: programs, updates and sign-in are not compared."


def _without(hives: HiveSet, other: HiveSet) -> HiveSet:
    return msgspec.structs.replace(
        hives,
        system=hives.system if other.system is not None else None,
        programs=hives.programs if other.programs is not None else None,
    )


def _change(was: Setting | None, now: Setting | None) -> SettingChange:
    one = now or was
    if one is None:
        raise ValueError("a change of nothing")
    return SettingChange(
        kind=one.kind,
        name=one.name,
        change="added" if was is None else "removed" if now is None else "changed",
        was=was.says if was is not None else "",
        is_=now.says if now is not None else "",
        decides=any(each.decides for each in (was, now) if each is not None),
    )


def _rank(change: SettingChange) -> tuple[object, ...]:
    return not change.decides, change.kind, change.name.casefold()


def _side(name: str, hives: HiveSet) -> SideResult:
    written = unix_seconds(hives.written)
    return SideResult(
        name=name, home=hives.home, written=plain_time(written) if written > 0 else None
    )


def _differing(one: Hive, other: Hive) -> int:
    """How many keys are on one side alone, or hold other values."""
    first, second = Counter(_sums(one)), Counter(_sums(other))
    differing = (first - second) | (second - first)
    return len({path for path, _ in differing})


def _sums(hive: Hive) -> Iterator[tuple[str, bytes]]:
    """Every key with a sum of its values; a damaged place ends it."""
    try:
        for count, (path, key) in enumerate(walk(hive.root)):
            if count >= _MOST_KEYS:
                return
            total = hashlib.blake2b(digest_size=12)
            for value in sorted(key.values(), key=lambda each: each.name):
                total.update(value.name.encode("utf-16-le", "replace") + bytes(2))
                total.update(value.type.to_bytes(4, "little") + hive.data(value))
            yield path.casefold(), total.digest()
    except DamagedHiveError:  # it is noted where settings are listed
        return
