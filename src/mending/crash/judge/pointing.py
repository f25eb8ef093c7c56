"""What crashes point at, weighed against what a change touched.

A panic or a dump names a module; a package brings modules, a kernel brings all of them. For each
crash that names something, the likelihood ratio of a change is

    P(it is named | this change is guilty) / P(it is named | another one is)

with three assumptions, stated as numbers below: a guilty driver is named in most of its crashes;
an innocent one is named in some, as a victim (freed memory that another wrote to); names of
packages and modules are alike by a stated likeness. Crashes of one cause are not independent of
each other, so the sum is bounded: what points nowhere loses, but never to zero.
"""

import math
import re
from collections.abc import Iterable, Sequence

import msgspec
from rapidfuzz import fuzz

from mending.crash.results import CrashResult

_NAMED_IF_GUILTY, _NAMED_IF_INNOCENT = 0.7, 0.1
_MOST, _LEAST = 6.0, -3.0
"""Bounds of the sum of logarithms."""
_SAME, _PART, _ALIKE, _ALL_MODULES = 1.0, 0.9, 0.7, 0.25
_ALIKE_FROM = 86
"""Likeness of two names in per cent from which they count as alike."""
_SPLIT = re.compile(r"[^a-z0-9]+")
_FILLING = frozenset(
    (
        *("dkms", "module", "modules", "driver", "drivers", "kmod", "kernel", "linux", "lib"),
        *("firmware", "source", "common", "data", "amd64", "i386", "arm64", "all", "sys", "ko"),
        *("dll", "the", "for"),
    )
)
"""Words in the names of packages that say nothing of which one it is."""
_KERNEL = re.compile(r"(linux-(image|modules|kernel)|kernel)([-. ]|$)")
_IN_BRACKETS = re.compile(r"\[([\w-]+)\]$")
_LEAST_LETTERS = 3


class Pointed(msgspec.Struct, frozen=True):
    """What crashes say of a change.

    Attributes:
        weight: logarithm of how much likelier they are if it is guilty.
        crashes: how many name what it touched; `of` how many name anything.
        module: what they name most.
    """

    weight: float
    crashes: int
    of: int
    module: str


NOTHING = Pointed(0.0, 0, 0, "")


def names_in(crashes: Iterable[CrashResult]) -> list[tuple[str, ...]]:
    """The modules that each crash names, plain; crashes that name none are left out."""
    found = []
    for crash in crashes:
        names = [crash.module, *(module.name for module in crash.modules if not module.system)]
        names += [match.group(1) for call in crash.trace if (match := _IN_BRACKETS.search(call))]
        plain = tuple(dict.fromkeys(filter(None, map(_plain_module, names))))
        if plain:
            found.append(plain)
    return found


def pointed_at(names: Sequence[str], named: Sequence[tuple[str, ...]]) -> Pointed:
    """What crashes say of a change of these names.

    Args:
        named: of each crash, as `names_in` gives it; the first is the one it names outright.
    """
    if not named:
        return NOTHING
    weight, crashes, best = 0.0, 0, ""
    for modules in named:
        touched = max((touches(name, module), module) for name in names for module in modules)
        share = touched[0]
        likely = share * _NAMED_IF_GUILTY + (1 - share) * _NAMED_IF_INNOCENT
        if share:
            weight += math.log(likely / _NAMED_IF_INNOCENT)
            crashes, best = crashes + 1, touched[1]
        else:
            weight += math.log((1 - _NAMED_IF_GUILTY) / (1 - _NAMED_IF_INNOCENT))
    return Pointed(min(max(weight, _LEAST), _MOST), crashes, len(named), best)


def touches(name: str, module: str) -> float:
    """How surely what is called so brings a module, between 0 and 1."""
    plain = _plain_module(module)
    if len(plain) < _LEAST_LETTERS:
        return 0.0
    words = [word for word in _SPLIT.split(_without_ending(name).casefold()) if word]
    telling = [word for word in words if word not in _FILLING and not word.isdigit()]
    joined = "".join(telling)
    if joined == plain:
        return _SAME
    if plain in telling or (len(joined) >= _LEAST_LETTERS and joined in plain.split("-")):
        return _PART
    if joined and fuzz.ratio(joined, plain) >= _ALIKE_FROM:
        return _ALIKE
    return _ALL_MODULES if _KERNEL.match(name.casefold()) else 0.0


def _plain_module(name: str) -> str:
    return "".join(_SPLIT.split(_without_ending(name).casefold()))


def _without_ending(name: str) -> str:
    """A name without folder, architecture and the ending of a file."""
    last = name.replace("\\", "/").rpartition("/")[2].partition(":")[0]
    stem, dot, ending = last.rpartition(".")
    return stem if dot and ending.casefold() in {"sys", "ko", "dll", "exe", "xz", "zst"} else last
