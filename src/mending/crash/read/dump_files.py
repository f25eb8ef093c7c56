"""A kernel dump as a crash: what the code says, and the module that each address in it belongs
to.
"""

import re
import zlib
from collections import Counter
from collections.abc import Iterable, Iterator

import msgspec

from mending.crash.lookup import CodeMatch, look_up
from mending.crash.results import CrashResult, ModuleResult
from mending.formats import dumps as dumps
from mending.formats import kernel_text
from mending.formats.dumps import Driver, Dump
from mending.formats.firmware import Variable
from mending.knowledge import Codes
from mending.model import InputError, Problem, plain_time
from mending.source import Source

_SYSTEM = 2
"""The first two modules of the list are the kernel and the layer under it: they notice crashes of
others.
"""
_MOST_ON_STACK = 12
_WEIGHTS = {"exception": 6.0, "instruction": 4.0, "code": 5.0, "parameter": 2.0, "stack": 1.0}
"""How much an address of each sort says of who did it; words on the stack may be left over from
earlier calls.
"""
_OF_THE_SYSTEM = 0.1
_HARDWARE = 0x124
"""The code whose last two parameters are the state of a bank, where the first says that the
processor reported.
"""


class _Address(msgspec.Struct, frozen=True):
    sort: str
    value: int
    where: str


def crash_of_dump(name: str, source: Source, codes: Codes) -> CrashResult:
    """The crash that a dump tells of. Only its header and lists are read.

    Raises:
        InputError, ReadError
    """
    reading = dumps.read(lambda at, length: source.read(at, length).data, source.size)
    if reading is None:
        raise InputError(f"{name} is no kernel dump.")
    found = reading.record
    values = ", ".join(f"{parameter:#x}" for parameter in found.parameters)
    known = next(
        (
            match
            for match in look_up(f"{found.code:#x} ({values})", codes).matches
            if match.kind == "stop"
        ),
        None,
    )
    modules = ranked_modules(
        found, [parameter.means for parameter in known.parameters] if known else []
    )
    blank = any(problem.code == "dump-blank" for problem in reading.problems)
    named = modules[0].name if modules and not modules[0].system else ""
    return CrashResult(
        file=name,
        line=0,
        kind="stop-code",
        headline="a dump without a header" if blank else _headline(found, values),
        at=plain_time(found.at) if found.at is not None else None,
        code=f"{found.code:#x}",
        name=known.name if known else "",
        uptime_seconds=found.uptime,
        module=named,
        modules=modules,
        says=known.says if known else "",
        phase=known.phase if known else "",
        suspects=known.suspects if known else ("driver", "memory"),
        parameters=_parameters(known),
        marks=tuple(_marks(found, reading.problems)),
        version=f"build {found.build}" if found.build else "",
    )


def _parameters(known: CodeMatch | None) -> tuple[str, ...]:
    rows = known.parameters if known else ()
    return tuple(
        f"{parameter.value}: {parameter.means or 'not known for certain'}" for parameter in rows
    )


def ranked_modules(found: Dump, meanings: list[str]) -> tuple[ModuleResult, ...]:
    """The modules that addresses point into, the likeliest to be at fault first, each with the
    reason.

    Args:
        meanings: what each parameter of the code means, where that is known.
    """
    scores: dict[int, float] = {}
    reasons: dict[int, list[str]] = {}
    on_stack: Counter[int] = Counter()
    for address in _addresses(found, meanings):
        place = next(
            (
                number
                for number, driver in enumerate(found.drivers)
                if _holds(driver, address.value)
            ),
            None,
        )
        if place is None:
            continue
        if address.sort == "stack":
            on_stack[place] += 1
            if on_stack[place] > 1:
                continue
        if address.where not in reasons.setdefault(place, []):
            reasons[place].append(address.where)
            scores[place] = scores.get(place, 0.0) + _WEIGHTS[address.sort]
    for place in scores:
        scores[place] *= _OF_THE_SYSTEM if place < _SYSTEM else 1
    order = sorted(scores, key=lambda place: (-scores[place], place))
    return tuple(
        _module(found.drivers[place], place, reasons[place], on_stack[place]) for place in order
    )


def _addresses(found: Dump, meanings: list[str]) -> Iterator[_Address]:
    if found.exception is not None:
        yield _Address("exception", found.exception[1], "the exception was raised in it")
    for number, value in enumerate(found.parameters):
        means = meanings[number] if number < len(meanings) else ""
        if "address of the code" in means:
            yield _Address(
                "code", value, f"parameter {number + 1}, the code that did it, lies in it"
            )
        elif value:
            yield _Address("parameter", value, f"parameter {number + 1} points into it")
    if found.instruction:
        yield _Address("instruction", found.instruction, "the processor was in it")
    for value in found.stack:
        yield _Address("stack", value, "it is on the stack")


def _holds(driver: Driver, address: int) -> bool:
    return driver.base <= address < driver.base + driver.bytes


def _module(driver: Driver, place: int, reasons: list[str], on_stack: int) -> ModuleResult:
    counted = [
        (
            f"{reason} ({on_stack} times)"
            if reason == "it is on the stack" and on_stack > 1
            else reason
        )
        for reason in reasons
    ]
    system = place < _SYSTEM
    why = "; ".join(counted) + (
        "; but it is the system's own core, which notices what others do" if system else ""
    )
    built = plain_time(driver.built)[:10] if driver.built else ""
    return ModuleResult(name=driver.name, why=why, system=system, built=built)


def _headline(found: Dump, values: str) -> str:
    return f"stop code {found.code:#x} ({values})"


def _marks(found: Dump, problems: Iterable[Problem]) -> Iterator[str]:
    processors = f", {found.processors} processors" if 0 < found.processors < 4096 else ""
    places = dumps.WIDE if found.bits == 64 else dumps.NARROW
    yield (
        f"{found.kind} dump of {found.bits} bits{processors}; the code is at offset"
        f" {places.code:#x} of the file"
    )
    if found.exception is not None:
        yield f"an exception {found.exception[0]:#x} was raised at {found.exception[1]:#x}"
    if found.code == _HARDWARE and not found.parameters[0]:
        says = kernel_text.state_says(
            (found.parameters[2] & 0xFFFFFFFF) << 32 | found.parameters[3] & 0xFFFFFFFF
        )
        yield from [f"the processor reports: {says}"] if says else []
    if found.kind == "small" or found.drivers:
        stack = f"; the stack is at offset {found.stack_at:#x}" if found.stack_at else ""
        yield f"{len(found.drivers)} drivers were loaded{stack}"
    for problem in problems:
        yield f"the dump is not whole: {problem.found} found, {problem.expected} expected"


# Last words of a Linux kernel that firmware kept for it: variables of a certain name, each with a
# part of the text, perhaps packed.
#
# Source: Linux 6.1, `drivers/firmware/efi/efi-pstore.c` (names: `dump-type`, type, part, count,
# time in Unix seconds, `C` for packed or `D`), `fs/pstore/platform.c` (the newest part has the
# number 1; packed is a bare DEFLATE stream).


_NAME = re.compile(r"dump-type\d+-(\d+)-(\d+)-(\d+)(?:-([CD]))?")
_MOST_TEXT = 1 << 20


def dumps_in(variables: Iterable[Variable]) -> Iterator[tuple[float, bytes]]:
    """When a kernel said its last words, in Unix seconds, and all of them in order; the oldest
    first.
    """
    parts: dict[tuple[int, int], list[tuple[int, bytes]]] = {}
    for variable in variables:
        match = _NAME.fullmatch(variable.name)
        if match is not None:
            part, count, time = (int(group) for group in match.groups()[:3])
            text = _unpacked(variable.data) if match.group(4) == "C" else variable.data
            parts.setdefault((time, count), []).append((part, text))
    for (time, _), found in sorted(parts.items()):
        yield float(time), b"\n".join(text for _, text in sorted(found, reverse=True))


def _unpacked(data: bytes) -> bytes:
    """A part without its packing; what comes before damage, or nothing."""
    for bits in (-zlib.MAX_WBITS, zlib.MAX_WBITS):
        engine = zlib.decompressobj(bits)
        try:
            return engine.decompress(data, _MOST_TEXT)
        except zlib.error:
            continue
    return b""
