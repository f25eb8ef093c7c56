"""What crashes point at, weighed against what a change touched.

A panic or a dump names a module; a package brings modules, a kernel brings all of them. For each
crash that names something, the likelihood ratio of a change is

    P(it is named | this change is guilty) / P(it is named | another one is)

with three assumptions, stated as numbers below: a guilty driver is named in most of its crashes;
an innocent one is named in some, as a victim (freed memory that another wrote to); a package brings
the modules of its list of files, and where there is no list, those whose names are alike by a
stated likeness. Crashes of one cause are not independent of each other, so the sum is bounded: what
points nowhere loses, but never to zero.

Beforehand, too, changes are not alike: only code in the kernel makes a kernel fail, and programs
can but call it. Of crashes that begin with an upgrade most come from kernels, modules and firmware,
which are about a tenth of all upgrades, and few from programs, which are nearly all others; that
would be a ratio of a hundred and more, of which a fifth is taken, for nobody counted (`reach`).
"""

import math
import re
from collections.abc import Iterable, Mapping, Sequence

import msgspec
from rapidfuzz import fuzz

from mending.crash.results import CrashResult
from mending.disk.system import Brought
from mending.knowledge.families import package_words

_NAMED_IF_GUILTY, _NAMED_IF_INNOCENT = 0.7, 0.1
_MOST, _LEAST = 6.0, -3.0
"""Bounds of the sum of logarithms."""
_SAME, _PART, _ALIKE, _ALL_MODULES = 1.0, 0.9, 0.7, 0.25
_ALIKE_FROM = 86
"""Likeness of two names in per cent from which they count as alike."""
_SPLIT = re.compile(r"[^a-z0-9]+")
_IN_BRACKETS = re.compile(r"\[([\w-]+)\]$")
_LEAST_LETTERS = 3
_WHOLE_KERNEL = 50
"""Modules from which a package is taken for a kernel: that it brings one of them says little."""
_REACH_KERNEL, _REACH_NEAR = 3.0, 2.0
"""Logarithms of how much more often such a package is behind crashes of a kernel than another."""
_IN_KERNEL = frozenset({"driver", "firmware"})
_OF_KERNEL = frozenset({"panic", "oops", "lockup", "machine-check"})


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
Contents = Mapping[str, Brought]
"""What packages bring, by their names."""


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


def fails_in_kernel(crashes: Sequence[CrashResult]) -> bool:
    """Whether what fails is a kernel that packages bring."""
    return any(crash.kind in _OF_KERNEL for crash in crashes)


def reach(what: str, name: str, contents: Contents) -> float:
    """How much more often a change of this kind and name is behind crashes of a kernel, as a
    logarithm.
    """
    words, brought, plain = package_words(), contents.get(name), name.casefold()
    if (
        what in _IN_KERNEL
        or words.is_kernel_code(plain)
        or (brought and (brought.modules or brought.firmware))
    ):
        return _REACH_KERNEL
    return _REACH_NEAR if words.is_near_kernel(plain) else 0.0


def pointed_at(
    names: Sequence[str], named: Sequence[tuple[str, ...]], contents: Contents
) -> Pointed:
    """What crashes say of a change of these names.

    Args:
        named: of each crash, as `names_in` gives it; the first is the one it names outright.
    """
    if not named:
        return NOTHING
    weight, crashes, best = 0.0, 0, ""
    for modules in named:
        touched = max(
            (touches(name, module, contents.get(name)), module)
            for name in names
            for module in modules
        )
        share = touched[0]
        likely = share * _NAMED_IF_GUILTY + (1 - share) * _NAMED_IF_INNOCENT
        if share:
            weight += math.log(likely / _NAMED_IF_INNOCENT)
            crashes, best = crashes + 1, touched[1]
        else:
            weight += math.log((1 - _NAMED_IF_GUILTY) / (1 - _NAMED_IF_INNOCENT))
    return Pointed(min(max(weight, _LEAST), _MOST), crashes, len(named), best)


def touches(name: str, module: str, brought: Brought | None = None) -> float:
    """How surely what is called so brings a module, between 0 and 1."""
    plain, known = _plain_module(module), package_words()
    if brought is not None and plain in map(_plain_module, brought.modules):
        return _SAME if len(brought.modules) < _WHOLE_KERNEL else _ALL_MODULES
    if len(plain) < _LEAST_LETTERS:
        return 0.0
    words = [word for word in _SPLIT.split(_without_ending(name).casefold()) if word]
    telling = [word for word in words if word not in known.filling and not word.isdigit()]
    joined = "".join(telling)
    if joined == plain:
        return _SAME
    if plain in telling or (len(joined) >= _LEAST_LETTERS and joined in plain.split("-")):
        return _PART
    if joined and fuzz.ratio(joined, plain) >= _ALIKE_FROM:
        return _ALIKE
    return _ALL_MODULES if known.is_kernel(name.casefold()) else 0.0


def _plain_module(name: str) -> str:
    return "".join(_SPLIT.split(_without_ending(name).casefold()))


def _without_ending(name: str) -> str:
    """A name without folder, architecture and the ending of a file."""
    last = name.replace("\\", "/").rpartition("/")[2].partition(":")[0]
    stem, dot, ending = last.rpartition(".")
    return stem if dot and ending.casefold() in {"sys", "ko", "dll", "exe", "xz", "zst"} else last
