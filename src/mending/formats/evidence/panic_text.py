"""Panic reports of Darwin kernels: the panic line, the extensions in its backtrace, what was
started last.

Source: XNU, `osfmk/kern/debug.c` and `osfmk/i386/AT386/model_dep.c` (panic line, backtrace, process
name, kernel version), `libkern/c++/OSKext.cpp` (extensions in the backtrace, last started and last
loaded ones). Newer systems wrap the same text in JSON.
"""

import json
import re
from collections import Counter
from typing import Any

import msgspec

from mending.model import clean_text

MARK = b"panic(cpu "
_PANIC = re.compile(r"panic\(cpu (\d+) caller (0x[0-9a-f]+)\): (.*)")
_EXTENSION = re.compile(
    r"^\s+(?P<dependency>dependency: )?(?P<name>[A-Za-z][\w-]*(?:\.[\w-]+)+)\((?P<version>[^)]*)\)"
)
_PROCESS = re.compile(r"[Pp]rocess name corresponding to current thread[^:]*: *(.+)")
_LAST = re.compile(r"last (started|loaded|unloaded) kext at \d+: (\S+)\s*(\S*)")
_LOADED = re.compile(r"^([A-Za-z][\w-]*(?:\.[\w-]+)+)\s+\S+$")
_VERSION = re.compile(r"Kernel Version (\d[\w.]*)")
_MOST = 64
_LINES = 4000


class Extension(msgspec.Struct, frozen=True):
    """A kernel extension by its reversed name. `own` tells whether it seems to belong to the system
    itself.
    """

    name: str
    version: str
    own: bool


class PanicReport(msgspec.Struct, frozen=True):
    """What a report says.

    Attributes:
        line: of the panic line, from 1.
        extensions: those in the backtrace, innermost first, without what they depend on.
        last: what was started, loaded or unloaded last, as the report has it.
    """

    headline: str
    processor: int
    line: int
    extensions: tuple[Extension, ...]
    program: str
    version: str
    last: tuple[str, ...]


def read(data: bytes) -> PanicReport | None:
    """The first panic in a report; None where there is none."""
    lines = _unwrapped(data).splitlines()[:_LINES]
    number = next((number for number, line in enumerate(lines) if _PANIC.search(line)), None)
    if number is None:
        return None
    found, body = _PANIC.search(lines[number]), lines[number + 1 :]
    rows = [match for line in body if (match := _EXTENSION.match(line))][:_MOST]
    house = _house([match["name"] for match in rows], body)
    named = [
        Extension(row["name"], clean_text(row["version"], 40), _prefix(row["name"]) == house)
        for row in rows
        if not row["dependency"]
    ]
    text = "\n".join(body)
    program, version = _PROCESS.search(text), _VERSION.search(text)
    last = tuple(
        clean_text(f"last {what}: {name} {number}".strip(), 160)
        for what, name, number in _LAST.findall(text)
    )
    return PanicReport(
        clean_text(found.group(3), 240) if found else "",
        int(found.group(1)) if found else 0,
        number + 1,
        tuple(named),
        clean_text(program.group(1), 80).strip() if program else "",
        version.group(1) if version else "",
        last[:_MOST],
    )


def _house(names: list[str], body: list[str]) -> str:
    """The beginning of names that most extensions share: that of the system's own maker."""
    loaded = [match.group(1) for line in body if (match := _LOADED.match(line))]
    counted = Counter(_prefix(name) for name in (*names, *loaded))
    return counted.most_common(1)[0][0] if counted else ""


def _prefix(name: str) -> str:
    return ".".join(name.split(".")[:2])


def _unwrapped(data: bytes) -> str:
    """The text itself, also out of a JSON document, where some string in it holds the panic."""
    text = data.decode("utf-8", errors="replace")
    decoder, at = json.JSONDecoder(), text.find("{")
    for _ in range(2):  # newer reports are two documents one behind the other
        if at < 0:
            break
        try:
            document, end = decoder.raw_decode(text, at)
        except (ValueError, RecursionError):
            break
        inside = _panic_in(document)
        if inside:
            return inside
        at = text.find("{", end)
    return text


def _panic_in(document: Any) -> str:
    values = document.values() if isinstance(document, dict) else []
    return next(
        (value for value in values if isinstance(value, str) and MARK.decode() in value), ""
    )
