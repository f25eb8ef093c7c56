"""Changes, and things plugged in, set against the failures: which one did they begin with?

For each change the failures are taken as two Poisson processes in running time, one before it and
one behind it, against a single one for all the time. The gain in log-likelihood says how well the
failing begins with that change, an exact test how easily chance would do it (corrected for the
number of changes, Holm 1979), and `near` how easily some change would lie so close before the
beginning. What crashes name, and what a package brings, is added to the gain. Only a change for
which times or names speak clearly is blamed; the others are shown with their numbers.
"""

import math
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from enum import StrEnum

import msgspec
from rapidfuzz import fuzz

from mending.crash.judge.onset import (
    ANSWERED,
    Change,
    beforehand_of,
    change_fit,
    changes_in,
    exact_p,
    find_onset,
    holm,
    split_fit,
)
from mending.crash.judge.timeline import Clock, Run, Timeline
from mending.crash.results import CrashesResult, CrashResult, SilentEndResult, SuspectResult
from mending.crash.screens import SeenCode, codes_in
from mending.disk.system import Brought
from mending.knowledge import Codes, EventKind
from mending.knowledge.families import package_words
from mending.model import Finding, Phase, Severity, Where, plain_time, read_time

# What crash records say of causes: findings with their phase and where they were read, for whoever
# ranks causes.


_MOST_CODES = 3
_ENDINGS = {"root-missing": Phase.LOADER, "init-missing": Phase.KERNEL, "emergency": Phase.SESSION}
_KERNELS = {"stop-code", "panic", "oops", "lockup", "machine-check"}
_ERRORS = {
    "disk-error": "disk-errors",
    "file-system-error": "file-system-errors",
    "hardware-error": "hardware-errors",
    "too-hot": "too-hot",
}


def clues_in(result: CrashesResult) -> tuple[Finding, ...]:
    """The findings; none where the records are silent. Their ids are the clues of the knowledge
    pack.
    """
    found = [
        *_codes(result),
        *_endings(result),
        *_began(result),
        *_patterns(result),
        *_loops(result),
        *_errors(result),
        *_repairs(result),
    ]
    return tuple({finding.id: finding for finding in reversed(found)}.values())[::-1]


def codes_in_records(result: CrashesResult, codes: Codes) -> tuple[SeenCode, ...]:
    """What the kernel stopped with most often, the code or the words, where the tables know what it
    stands for; several where they come equally often.
    """
    told = Counter(
        crash.name or crash.code or crash.headline
        for crash in result.crashes
        if crash.kind in _KERNELS
    )
    most = max(told.values(), default=0)
    found = [
        code
        for words, count in told.items()
        if count == most
        for code in codes_in(words, codes)
        if code.causes
    ]
    return tuple({code.words: code for code in found}.values())[:_MOST_CODES]


def _codes(result: CrashesResult) -> Iterator[Finding]:
    crashes = [
        crash
        for crash in result.crashes
        if crash.kind in _KERNELS and crash.suspects and crash.says
    ]
    if crashes:
        (first, _), count = Counter(
            (crash.suspects[0], crash.code) for crash in crashes
        ).most_common(1)[0]
        example = next(crash for crash in crashes if crash.suspects[0] == first)
        words = example.name or example.code or example.headline
        yield _finding(
            f"code-suggests-{first}",
            _phase(example),
            f"{count} x {words}: {example.says}",
            _where(example),
        )
    for crash in result.crashes:
        if crash.module and not any(
            module.system and module.name == crash.module for module in crash.modules
        ):
            yield _finding(
                "module-named", _phase(crash), f"a crash points into {crash.module}", _where(crash)
            )
            return


def _endings(result: CrashesResult) -> Iterator[Finding]:
    for crash in result.crashes:
        if crash.kind in _ENDINGS:
            name = "emergency-mode" if crash.kind == "emergency" else crash.kind
            yield _finding(name, _ENDINGS[crash.kind], crash.headline, _where(crash))


def _began(result: CrashesResult) -> Iterator[Finding]:
    for suspect in result.suspects:
        if suspect.blamed:
            what = "update" if suspect.what == "firmware" else suspect.what
            name = "fails-when-plugged-in" if suspect.plugged else f"began-with-{what}"
            yield _finding(name, Phase.KERNEL, f"{suspect.change}: {suspect.says}")


def _patterns(result: CrashesResult) -> Iterator[Finding]:
    for pattern in result.patterns:
        yield _finding(
            pattern.id,
            Phase.POWER if "power-or-heat" in pattern.suspects else Phase.KERNEL,
            pattern.says,
        )


def _loops(result: CrashesResult) -> Iterator[Finding]:
    for loop in result.loops[-1:]:
        yield _finding(
            "loop-regular" if loop.regular else "loop-irregular", Phase.KERNEL, loop.says
        )


def _errors(result: CrashesResult) -> Iterator[Finding]:
    for errors in result.errors:
        if errors.kind in _ERRORS:
            yield _finding(_ERRORS[errors.kind], Phase.POWER, f"{errors.count} x {errors.example}")


def _repairs(result: CrashesResult) -> Iterator[Finding]:
    for attempt in result.repair_attempts[-1:]:
        clean = not attempt.found and not attempt.complained
        where = Where(path=attempt.file)
        yield _finding(
            "repair-found-nothing" if clean else "repair-did-not-help",
            Phase.LOADER,
            attempt.says,
            where,
        )


def _phase(crash: CrashResult) -> Phase:
    return Phase(crash.phase) if crash.phase else Phase.KERNEL


def _where(crash: CrashResult) -> Where:
    return Where(path=crash.file, line=crash.line or None)


def _finding(name: str, phase: Phase, says: str, where: Where | None = None) -> Finding:
    return Finding(
        id=name, phase=phase, severity=Severity.WARNING, says=says, where=where or Where()
    )


# What the end of a run names: the modules that a crash points into, the program that ran, files in
# its words, and, before an end in silence, whoever spoke last.
#
# What stands in front of a line of a kernel's driver is the driver and the place of its device on
# the bus (Linux 6.1, `drivers/base/core.c`, `__dev_printk`).


_IN_BRACKETS = re.compile(r"\[([A-Za-z][\w-]+)\]")
_FILE = re.compile(r"(?<![\w/])(?:/[\w./+-]*/)?([\w.+-]+\.(?:so(?:\.\d+)*|sys|dll|exe|ko|kext))\b")
_DEVICE = r"(?:[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-9a-f]|\d+-\d[\d.:-]*|[a-z]+\d\S*)"
_DRIVER = re.compile(rf"^([A-Za-z][\w-]+)(?: {_DEVICE}(?: \w+)?)?: ")
_THREAD = re.compile(r"irq/\d+-(?:s-)?([A-Za-z]\w+)")
_NUMBER = re.compile(r"\[\d+\]$")
_RUNNING = {"panic", "oops", "lockup", "stop-code"}
_GENERAL = frozenset(
    {"usb", "pci", "pcieport", "ata", "scsi", "sd", "sr", "hub", "net", "block", "device", "kernel"}
    | {"hid", "input", "cpu", "mce", "random", "audit", "systemd", "swapper", "init", "bug"}
)
"""What nearly every PC has, and what every package of a kernel brings."""
_LONGEST_NAME = 15
"""Of a program, as a kernel keeps it (`TASK_COMM_LEN` in `include/linux/sched.h`, less one)."""


class What(StrEnum):
    """What is named, and by what."""

    MODULE = "module"
    FILE = "file"
    PROGRAM = "program"
    LAST_WORDS = "last-words"


class Mention(msgspec.Struct, frozen=True):
    """One thing that an end names."""

    what: What
    name: str


End = tuple[Mention, ...]
"""All that one end names, each once."""


def mentions_in(crashes: Iterable[CrashResult], silent: Iterable[SilentEndResult]) -> list[End]:
    """Of every end that names anything, what."""
    ends = [tuple(dict.fromkeys(_of_crash(crash))) for crash in crashes]
    ends += [tuple(dict.fromkeys(_of_silence(end))) for end in silent if end.by_hand != ANSWERED]
    return [end for end in ends if end]


def same_program(name: str, other: str) -> bool:
    """Whether both are one program, of which a kernel may have kept the beginning alone."""
    shorter = min(len(name), len(other))
    return name == other or (shorter >= _LONGEST_NAME and name[:shorter] == other[:shorter])


def _of_crash(crash: CrashResult) -> Iterator[Mention]:
    modules = [crash.module, *(module.name for module in crash.modules if not module.system)]
    modules += [name for call in crash.trace for name in _IN_BRACKETS.findall(call)]
    thread = _THREAD.match(crash.program)
    modules += [thread.group(1)] if thread else []
    for name in filter(None, modules):
        yield Mention(What.MODULE, name)
    for text in (crash.headline, crash.reason):
        for name in _FILE.findall(text):
            yield Mention(What.FILE, name)
    if crash.kind in _RUNNING and "/" not in crash.program and not _is_general(crash.program):
        yield Mention(What.PROGRAM, crash.program)


def _of_silence(end: SilentEndResult) -> Iterator[Mention]:
    author, colon, words = end.last.partition(": ")
    if not colon:
        return
    author = _NUMBER.sub("", author)
    for name in _FILE.findall(words):
        yield Mention(What.FILE, name)
    if author != "kernel":
        if not _is_general(author):
            yield Mention(What.PROGRAM, author)
        return
    driver = _DRIVER.match(words)
    for name in [*([driver.group(1)] if driver else []), *_IN_BRACKETS.findall(words)]:
        if not _is_general(name):
            yield Mention(What.LAST_WORDS, name)


def _is_general(name: str) -> bool:
    return name.rstrip("0123456789").casefold() in _GENERAL | {""}


# What crashes point at, weighed against what a change touched.
#
# A panic or a dump names a module, a file, the program that ran; before an end in silence a driver
# had the last word. A package brings modules and programs, a kernel brings all modules, a device
# brings the driver that it uses. For each end that names something, the likelihood ratio of a
# change is
#
#     P(it is named | this change is guilty) / P(it is named | another one is)
#
# with assumptions stated as numbers below: a guilty driver is named in most of its crashes; an
# innocent one is named in some, as a victim (freed memory that another wrote to); the program that
# ran and the driver that spoke last are often there by chance, so they speak for a change and never
# against one; a package brings what its list of files says, and where there is no list, what is
# called alike by a stated likeness. Ends of one cause are not independent of each other, so the sum
# is bounded for each kind of naming: what points nowhere loses, but never to zero.
#
# Beforehand, too, changes are not alike: only code in the kernel makes a kernel fail, and programs
# can but call it. Of crashes that begin with an upgrade most come from kernels, modules and
# firmware, which are about a tenth of all upgrades, and few from programs, which are nearly all
# others; that would be a ratio of a hundred and more, of which a fifth is taken, for nobody counted
# (`reach`).


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
_POINTING_ENDINGS = frozenset({"sys", "ko", "dll", "exe", "kext", "so", "xz", "zst"})
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
    return stem if dot and ending.casefold() in _POINTING_ENDINGS else last


_AT_START = 120.0
"""Seconds after a start in which devices are found, not plugged in."""
_AT_ONCE = 30.0
"""Seconds within which a crash belongs to what was plugged in."""
_BEHIND = 180.0
"""Seconds from plugging in to the next start, where nothing was logged between: then it was the
last sign of life.
"""
_BLAMED = 0.05
_TELLING = 1.5
"""Weight from which what is named stands for nearness in time: a module once, others twice."""
_HOUR = 3600.0
_SHOWN = 12


class _Weighed(msgspec.Struct, frozen=True):
    change: Change
    plugged: bool
    few: int
    few_seconds: float
    many: int
    many_seconds: float
    fit: float
    p: float
    pointed: Pointed = NOTHING


class Pointers(msgspec.Struct, frozen=True):
    """What is known beside the times.

    Attributes:
        ends: what each end of a run names.
        contents: what packages bring.
        kernel: whether it is a kernel that fails.
    """

    ends: Sequence[End]
    contents: Contents
    kernel: bool


def suspects(line: Timeline, pointers: Pointers) -> tuple[SuspectResult, ...]:
    """All changes, the likeliest first; none where nothing failed or nothing changed."""
    clock, total = line.clock(), line.seconds
    failed = [run for run in line.runs if run.failed]
    failures = [clock.running(run.end) for run in failed]
    if not failures or total <= 0:
        return ()
    weighed = [_weigh(change, clock, failures, total, pointers) for change in changes_in(line)]
    weighed += list(_plugged(line, failures, total, pointers))
    if not weighed:
        return ()
    corrected = holm([change.p for change in weighed])
    near = _nearness(
        [clock.running(change.change.at) for change in weighed if not change.plugged],
        failures,
        total,
    )
    top = max(change.fit for change in weighed)
    whole = sum(math.exp(change.fit - top) for change in weighed) if top > -math.inf else 1.0
    shares = [
        math.exp(change.fit - top) / whole if change.fit > -math.inf else 0.0 for change in weighed
    ]
    found = [
        _result(
            change,
            p,
            shares[number],
            0.0 if change.plugged else near(clock.running(change.change.at)),
            shares[number] == max(shares),
        )
        for number, (change, p) in enumerate(zip(weighed, corrected, strict=True))
    ]
    return tuple(sorted(found, key=lambda suspect: (-suspect.share, suspect.p))[:_SHOWN])


def _weigh(
    change: Change,
    clock: Clock,
    failures: Sequence[float],
    total: float,
    pointers: Pointers,
) -> _Weighed:
    at = clock.running(change.at)
    after = sum(1 for failure in failures if failure >= at)
    fit = change_fit(failures, total, at) + beforehand_of(change.what)
    contents = pointers.contents
    pointed = _pointed(change, pointers)
    beforehand = {name: reach(change.what, name, contents) for name in change.names}
    if pointers.kernel:
        fit += max(beforehand.values())

    def likeliest(name: str) -> tuple[float, float]:
        named = touches(name, pointed.most, contents.get(name)) if pointed.most else 0.0
        return -named, -beforehand[name]

    change = msgspec.structs.replace(change, names=tuple(sorted(change.names, key=likeliest)))
    fit += pointed.weight
    p = exact_p(after, len(failures), (total - at) / total)
    return _Weighed(change, False, len(failures) - after, at, after, total - at, fit, p, pointed)


def _pointed(change: Change, pointers: Pointers) -> Pointed:
    """What ends of runs say of a change; nothing of a device whose driver is not known."""
    if change.what == "device" and pointers.contents.keys().isdisjoint(change.names):
        return NOTHING
    return pointed_at(change.names, pointers.ends, pointers.contents)


def _plugged(
    line: Timeline, failures: Sequence[float], total: float, pointers: Pointers
) -> Iterator[_Weighed]:
    """Each thing that is plugged in while the PC runs, against failures within seconds of it."""
    starts = [run.start for run in line.runs]
    by_name: dict[str, list[float]] = {}
    for event in line.events:
        later = event.kind is EventKind.PLUGGED and not any(
            0 <= event.at - start < _AT_START for start in starts
        )
        if later:
            by_name.setdefault(event.name, []).append(event.at)
    for name, times in by_name.items():
        within = sum(
            1 for run in line.runs if run.failed and any(_soon(at, run.end, starts) for at in times)
        )
        seconds = min(_AT_ONCE * len(times), total)
        few = len(failures) - within
        change = Change(times[-1], "device", (name,), False)
        pointed = _pointed(change, pointers)
        fit = split_fit(few, total - seconds, within, seconds) + pointed.weight
        p = exact_p(within, len(failures), seconds / total)
        yield _Weighed(change, True, few, total - seconds, within, seconds, fit, p, pointed)


def _soon(at: float, end: float, starts: list[float]) -> bool:
    """Whether a run ended within seconds of plugging in, or gave no sign of life after it and was
    started anew.
    """
    following = next((start for start in starts if start > at), None)
    return 0 <= end - at <= _AT_ONCE and (
        following is None or end - at > 1 or following - at < _BEHIND
    )


def _nearness(
    changes: list[float], failures: Sequence[float], total: float
) -> Callable[[float], float]:
    """For a change: the chance that a failing which began at any time showed itself so soon after
    any of them.

    The failure with which the failing showed itself is found without looking at the changes; later
    changes are out.
    """
    places = sorted(changes)
    first = max(failures, key=lambda failure: change_fit(failures, total, failure))

    def near(at: float) -> float:
        delay = first - at
        if delay < 0:
            return 1.0
        ends = [*places[1:], total]
        covered = sum(min(delay, end - place) for place, end in zip(places, ends, strict=True))
        return min(1.0, covered / total)

    return near


def _result(weighed: _Weighed, p: float, share: float, near: float, top: bool) -> SuspectResult:
    before = weighed.few / (weighed.few_seconds / _HOUR) if weighed.few_seconds else 0.0
    after = weighed.many / (weighed.many_seconds / _HOUR) if weighed.many_seconds else 0.0
    blamed = (
        top
        and weighed.fit > 0
        and p <= _BLAMED
        and (near <= _BLAMED or weighed.pointed.weight >= _TELLING)
    )
    if weighed.plugged:
        says = (
            f"{weighed.many} of {weighed.few + weighed.many} failures came within seconds of"
            " plugging it in"
        )
        says += _pointing(weighed.pointed, device=True)
        change = f"plugged in: {weighed.change.names[0]}"
    else:
        hours, later = weighed.few_seconds / _HOUR, weighed.many_seconds / _HOUR
        failures = "failure" if weighed.few == 1 else "failures"
        says = (
            f"{weighed.few} {failures} in {hours:.0f} hours before it, {weighed.many} in"
            f" {later:.0f} hours after it"
        )
        says += _pointing(weighed.pointed, device=weighed.change.what == "device")
        change = weighed.change.says
    return SuspectResult(
        change=change,
        what=weighed.change.what,
        at=plain_time(weighed.change.at),
        before_per_hour=round(before, 4),
        after_per_hour=round(after, 4),
        ratio=round(after / before, 2) if before else None,
        p=p,
        near=near,
        share=round(share, 4),
        blamed=blamed,
        says=says,
        plugged=weighed.plugged,
        named_by=weighed.pointed.ends,
        named_of=weighed.pointed.of,
    )


def _pointing(pointed: Pointed, *, device: bool = False) -> str:
    """The other half of what speaks for a change."""
    if pointed.most is None:
        return ""
    what, name = pointed.most.what, pointed.most.name
    brought = "the driver that it uses" if device else "which it brought"
    if what is What.LAST_WORDS:
        return f", and {name} spoke last before {_count(pointed, 'end')}, {brought}"
    ran = " ran at" if what is What.PROGRAM else ""
    if ran:
        return f", and {name}{ran} {_count(pointed, 'crash')}, {brought}"
    verb = "names" if pointed.of == 1 else "name"
    return f", and {_count(pointed, 'crash')} {verb} {name}, {brought}"


def _count(pointed: Pointed, what: str) -> str:
    if pointed.of == 1:
        return f"the {what}"
    return f"{pointed.ends} of {pointed.of} {'crashes' if what == 'crash' else 'ends'}"


# Crashes of one kind told from others: an earlier fault of another kind says nothing of when this
# one began.
#
# Two ends of a run are of one kind where they show the same code and headline and name the same
# module. Faults that show themselves differently each time (bad memory does) have no kind; then all
# of them count together.


_NEAR = 5.0
"""Seconds that a crash may lie behind the last sign of life of its run."""
_KINDS_LEAST, _MARGIN = 4, 3.0
"""Failures that make a kind, and how much better its beginning has to fit than that of all."""
SET_ASIDE = "set-aside"
Kind = tuple[str, str, str]


def main_kind(line: Timeline, crashes: Sequence[CrashResult]) -> Timeline:
    """The runs with only those failures that the beginning is about; others count as ends that say
    nothing.
    """
    kinds = _kinds(line, crashes)
    failed = [number for number, run in enumerate(line.runs) if run.failed]
    best, evidence = set(failed), _evidence(line, failed) * _MARGIN
    for kind, count in Counter(kinds[number] for number in failed).items():
        members = [number for number in failed if kinds[number] == kind]
        if count < _KINDS_LEAST or count == len(failed) or kind is None:
            continue
        found = _evidence(line, members)
        if found > evidence:
            best, evidence = set(members), found
    if len(best) == len(failed):
        return line
    runs = tuple(
        run if not run.failed or number in best else msgspec.structs.replace(run, ended=SET_ASIDE)
        for number, run in enumerate(line.runs)
    )
    return msgspec.structs.replace(line, runs=runs)


def _evidence(line: Timeline, numbers: Sequence[int]) -> float:
    clock = line.clock()
    found = find_onset(
        sorted(clock.running(line.runs[number].end) for number in numbers), line.seconds
    )
    return found.evidence if found is not None else 0.0


def _kinds(line: Timeline, crashes: Sequence[CrashResult]) -> list[Kind | None]:
    """The kind in which each run ended; None where nothing tells it."""
    dated = [
        (read[0], crash)
        for crash in crashes
        if crash.at is not None and (read := read_time(crash.at)) is not None
    ]
    timed = sorted(dated, key=lambda row: row[0])
    found: list[Kind | None] = []
    place = 0
    for number, run in enumerate(line.runs):
        following = line.runs[number + 1].start if number + 1 < len(line.runs) else float("inf")
        until = min(run.end + _NEAR, following)
        inside = []
        while place < len(timed) and timed[place][0] <= until:
            if timed[place][0] >= run.start - _NEAR:
                inside.append(timed[place][1])
            place += 1
        found.append(_kind(run, inside))
    return found


def _kind(run: Run, crashes: Sequence[CrashResult]) -> Kind | None:
    """By the first crash of the run that names anything."""
    if not crashes:
        return (f"{run.code:#x}", "", run.named) if run.code or run.named else None
    told = next((crash for crash in crashes if crash.module), crashes[0])
    return told.code, told.headline.partition(":")[0], told.module
