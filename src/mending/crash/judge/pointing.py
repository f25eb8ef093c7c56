"""What crashes point at, weighed against what a change touched.

A panic or a dump names a module, a file, the program that ran; before an end in silence a driver
had the last word. A package brings modules and programs, a kernel brings all modules, a device
brings the driver that it uses. For each end that names something, the likelihood ratio of a change
is

    P(it is named | this change is guilty) / P(it is named | another one is)

with assumptions stated as numbers below: a guilty driver is named in most of its crashes; an
innocent one is named in some, as a victim (freed memory that another wrote to); the program that
ran and the driver that spoke last are often there by chance, so they speak for a change and never
against one; a package brings what its list of files says, and where there is no list, what is
called alike by a stated likeness. Ends of one cause are not independent of each other, so the sum
is bounded for each kind of naming: what points nowhere loses, but never to zero.

Beforehand, too, changes are not alike: only code in the kernel makes a kernel fail, and programs
can but call it. Of crashes that begin with an upgrade most come from kernels, modules and firmware,
which are about a tenth of all upgrades, and few from programs, which are nearly all others; that
would be a ratio of a hundred and more, of which a fifth is taken, for nobody counted (`reach`).
"""

import math
import re
from collections import Counter
from collections.abc import Mapping, Sequence

import msgspec
from rapidfuzz import fuzz

from mending.crash.judge.mentions import End, Mention, What, same_program
from mending.crash.results import CrashResult
from mending.disk.system import Brought
from mending.knowledge.families import package_words

_NAMED_IF_INNOCENT = 0.1


class _Naming(msgspec.Struct, frozen=True):
    """How telling it is to be named so: the chance of it for a guilty change, and the bounds of the
    sum of logarithms.
    """

    if_guilty: float
    least: float
    most: float


_NAMINGS = {
    What.MODULE: _Naming(0.7, -3.0, 6.0),
    What.FILE: _Naming(0.6, -3.0, 6.0),
    What.LAST_WORDS: _Naming(0.4, 0.0, 4.0),
    What.PROGRAM: _Naming(0.3, 0.0, 2.0),
}
"""The more telling first."""
_MOST, _LEAST = 6.0, -3.0
"""Bounds of all together."""
_SAME, _PART, _ALIKE, _ALL_MODULES = 1.0, 0.9, 0.7, 0.25
_ALIKE_FROM = 86
"""Likeness of two names in per cent from which they count as alike."""
_SPLIT = re.compile(r"[^a-z0-9]+")
_LEAST_LETTERS = 3
_ENDINGS = frozenset({"sys", "ko", "dll", "exe", "kext", "so", "xz", "zst"})
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
        ends: how many name what it touched; `of` how many name anything.
        most: what they name most of that; None where they name nothing that it touched.
    """

    weight: float
    ends: int
    of: int
    most: Mention | None


NOTHING = Pointed(0.0, 0, 0, None)
Contents = Mapping[str, Brought]
"""What packages and devices bring, by their names."""


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


def pointed_at(names: Sequence[str], ends: Sequence[End], contents: Contents) -> Pointed:
    """What ends of runs say of a change of these names."""
    if not ends:
        return NOTHING
    sums = dict.fromkeys(What, 0.0)
    named: Counter[Mention] = Counter()
    for end in ends:
        likely, best = max(
            (
                (_speaks(share, mention.what), mention)
                for name in names
                for mention in end
                if (share := touches(name, mention, contents.get(name)))
            ),
            default=(0.0, None),
            key=lambda row: row[0],
        )
        if best is not None:
            sums[best.what] += likely
            named[best] += 1
        else:
            what = next(what for what in _NAMINGS if any(mention.what is what for mention in end))
            sums[what] += _silent(what)
    whole = sum(min(max(sums[what], way.least), way.most) for what, way in _NAMINGS.items())
    most = named.most_common(1)[0][0] if named else None
    return Pointed(min(max(whole, _LEAST), _MOST), named.total(), len(ends), most)


def _speaks(share: float, what: What) -> float:
    likely = share * _NAMINGS[what].if_guilty + (1 - share) * _NAMED_IF_INNOCENT
    return math.log(likely / _NAMED_IF_INNOCENT)


def _silent(what: What) -> float:
    return math.log((1 - _NAMINGS[what].if_guilty) / (1 - _NAMED_IF_INNOCENT))


def touches(name: str, mention: Mention, brought: Brought | None = None) -> float:
    """How surely what is called so brings what is named, between 0 and 1."""
    if brought is not None and _lists(brought, mention):
        whole = mention.what is not What.PROGRAM and len(brought.modules) >= _WHOLE_KERNEL
        return _ALL_MODULES if whole else _SAME
    if brought is not None and mention.what is What.PROGRAM:
        return 0.0  # its list has all that it brings
    plain, known = _plain_module(mention.name), package_words()
    if len(plain) < _LEAST_LETTERS:
        return 0.0
    words = [word for word in _SPLIT.split(_without_ending(name).casefold()) if word]
    telling = [word for word in words if word not in known.filling and not word.isdigit()]
    joined = "".join(telling)
    if joined == plain:
        return _SAME
    if mention.what is What.PROGRAM:  # many have common words for names
        return 0.0
    if plain in telling or (len(joined) >= _LEAST_LETTERS and joined in plain.split("-")):
        return _PART
    if joined and fuzz.ratio(joined, plain) >= _ALIKE_FROM:
        return _ALIKE
    kernels = mention.what in {What.MODULE, What.LAST_WORDS} and known.is_kernel(name.casefold())
    return _ALL_MODULES if kernels else 0.0


def _lists(brought: Brought, mention: Mention) -> bool:
    if mention.what is What.PROGRAM:
        return any(same_program(program, mention.name) for program in brought.programs)
    if mention.what is What.FILE and mention.name in brought.libraries:
        return True
    plain = _plain_module(mention.name)
    return any(_plain_module(module) == plain for module in brought.modules)


def _plain_module(name: str) -> str:
    return "".join(_SPLIT.split(_without_ending(name).casefold()))


def _without_ending(name: str) -> str:
    """A name without folder, architecture and the ending of a file."""
    last = name.replace("\\", "/").rpartition("/")[2].partition(":")[0]
    stem, dot, ending = last.rpartition(".")
    return stem if dot and ending.casefold() in _ENDINGS else last
