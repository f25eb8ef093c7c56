"""Logs of Linux kernels: where a crash begins, what it says of itself, and the lines that belong to
it.

Sources: Linux 6.1, `kernel/panic.c`, `arch/x86/kernel/dumpstack.c`, `arch/x86/mm/fault.c`,
`kernel/watchdog.c`, `Documentation/admin-guide/tainted-kernels.rst`; what stands in front of a
line: `kernel/printk/printk.c`, RFC 3164 4.1; when a kernel was built: `init/version-timestamp.c`,
`scripts/mkcompile_h` (as `date` writes it; distributions put a day of the form 2023-09-29 there).
"""

import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from mending.model import LogRecord, clean_text, read_short, read_time

BEGINNINGS = (
    b"Kernel panic",
    b" [#",
    b"BUG",
    b"hard LOCKUP",
    b"[Hardware Error]",
    b"Out of memory: Killed",
    b"blocked for more than",
    b"mergency mode",
    b"mergency Mode",
    b"ALERT!",
    b"waiting for root",
    b"Warning: /dev/",
)
"""Bytes of which a line that begins a crash holds one; cheap to look for in large logs."""
LONGEST_LINE = 8192
_BUILT_DAY = re.compile(r"\((\d{4}-\d\d-\d\d)\)")
_BUILT = re.compile(r"[A-Z][a-z]{2} ([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d)(?: [AP]M)? \w+ (\d{4})")
_MOST_TRACE, _FOLLOWING = 48, 160
_FRONT = re.compile(
    r"^(?:<\d+>)?(?:\S+ +\d+ [\d:]+ \S+ kernel: |[\dT:.+-]+ \S+ kernel: )?(?:\[ *(\d+\.\d+)\](?:\["
    r" *[TC]\d+\])? )?"
)
_PANIC = re.compile(r"Kernel panic - not syncing: (.*)")
_KINDS = (
    (
        "machine-check",
        re.compile(
            r"mce: \[Hardware Error\]|\[Hardware Error\]: (?:event|CPU|Machine check|section)"
        ),
    ),
    ("lockup", re.compile(r"watchdog: BUG: soft lockup|soft lockup - CPU|hard LOCKUP on cpu")),
    (
        "oops",
        re.compile(
            r"BUG: (?:unable to handle|kernel NULL pointer|Bad page|scheduling while atomic|stack"
            r" guard page)"
            r"|kernel BUG at|(?:Oops|general protection fault|invalid opcode|divide error)\b.*"
            r" \[#\d+\]"
        ),
    ),
    ("out-of-memory", re.compile(r"Out of memory: Killed process")),
    (
        "root-missing",
        re.compile(
            r"^ALERT! +\S+ does not exist|^Gave up waiting for root|Warning: /dev/\S+ does not"
            r" exist"
        ),
    ),
    (
        "emergency",
        re.compile(
            r"^You are in (?:emergency|rescue) mode|Reached target (?:\S+ - )?Emergency"
            r" Mode|Entering emergency mode"
        ),
    ),
    ("hung-task", re.compile(r"INFO: task .* blocked for more than \d+ seconds")),
)
_WHERE = re.compile(r"RIP: (?:[0-9a-f]{4}:)?([\w.]+)\+0x[0-9a-f]+/0x[0-9a-f]+(?: \[(\w+)\])?")
_CALL = re.compile(r"^\s*(\??) ?([A-Za-z_][\w.]*)\+0x[0-9a-f]+/0x[0-9a-f]+(?: \[(\w+)\])?")
_WHO = re.compile(
    r"CPU: (\d+) (?:UID: \d+ )?PID: (\d+) Comm: (.+?) (?:Not tainted|Tainted: ([A-Z ]+?)) +(\d\S*)"
)
_HARDWARE = re.compile(
    r"(?:Bank \d+): ?[0-9a-f]{8,16}|event severity: \w+|section_type: [\w ,-]+|DIMM location: .+"
)
_END = re.compile(r"---\[ end ")
_ENDINGS = (
    ("root-missing", re.compile(r"VFS: Unable to mount root fs")),
    ("init-missing", re.compile(r"No working init found|Requested init .* failed")),
)
"""Panics that say why the kernel could go no further."""
TAINTS = {
    "P": "a module that is not free software was loaded",
    "F": "a module was loaded by force",
    "S": "the kernel runs on hardware out of its specification",
    "R": "a module was unloaded by force",
    "M": "the processor reported a machine check",
    "B": "a bad page was met",
    "U": "a program asked for the mark",
    "D": "the kernel had an oops before",
    "A": "a table of the firmware was replaced",
    "W": "a warning came before",
    "C": "a module of the trial branch was loaded",
    "I": "a fault of the firmware was worked around",
    "O": "a module from outside the kernel was loaded",
    "E": "a module without a signature was loaded",
    "L": "a soft lockup came before",
    "K": "the kernel was patched while it ran",
    "X": "a mark of the distribution",
    "T": "the kernel was built with shuffled structures",
    "N": "a test was run in the kernel",
}


class Call(msgspec.Struct, frozen=True):
    """One line of a call trace. `sure` is false for what only lay on the stack."""

    symbol: str
    module: str
    sure: bool


class KernelCrash(msgspec.Struct, frozen=True, kw_only=True):
    """One crash as the log tells it.

    Attributes:
        kind: `panic oops lockup machine-check out-of-memory hung-task root-missing init-missing
            emergency`.
        headline: the first line, without what stands in front of it.
        reason: of a panic, what came before it in the same breath: the headline of an oops; else
            empty.
        line: from 1; `seconds` since the kernel started, None where the log has no times.
        symbol: function in which it happened, and the module that it belongs to; empty where not
            told.
        taint: letters of the kernel's state.
        hardware: of a hardware error, what its record says: states of banks in hexadecimal, kind of
            part, place.
    """

    kind: str
    headline: str
    line: int
    seconds: float | None = None
    reason: str = ""
    symbol: str = ""
    module: str = ""
    program: str = ""
    processor: int | None = None
    version: str = ""
    taint: str = ""
    trace: tuple[Call, ...] = ()
    hardware: tuple[str, ...] = ()


def read_crashes(lines: Iterable[tuple[int, bytes]]) -> Iterator[KernelCrash]:
    """The crashes in a log, in its order.

    Args:
        lines: number and bytes of each line; stretches without any of `BEGINNINGS` may be left out.
    """
    current: _Draft | None = None
    for number, raw in lines:
        seconds, text = _plain(raw)
        kind = _kind(text)
        too_far = current is not None and number - current.line > _FOLLOWING
        if current is not None and (too_far or (kind and not _belongs(current.kind, kind, text))):
            yield current.crash()
            current = None
        if kind and current is None:
            current = _Draft(kind, _headline(text), number, seconds)
        elif kind == "panic" and current is not None:
            current.kind, current.reason, current.headline = kind, current.headline, _headline(text)
        if current is not None:
            current.take(text)
            if _END.search(text) and "Kernel panic" in text:
                yield current.crash()
                current = None
    if current is not None:
        yield current.crash()


def begins(text: str) -> str:
    """The kind of crash that a line's words begin; empty where they begin none."""
    return _kind(text)


def built(text: str) -> float | None:
    """When a kernel was built, from the first line that it writes: Unix seconds, to the day. None
    where the line does not tell.
    """
    if match := _BUILT_DAY.search(text):
        read = read_time(f"{match.group(1)}T00:00:00Z")
        return read[0] if read is not None else None
    match = _BUILT.search(text)
    return read_short(match.group(1), int(match.group(2))) if match else None


def taint_says(letters: str) -> tuple[str, ...]:
    """What the letters of a kernel's state mean; unknown ones are left out."""
    return tuple(TAINTS[letter] for letter in letters if letter in TAINTS)


def _plain(raw: bytes) -> tuple[float | None, str]:
    """Time and words of a line."""
    text = clean_text(raw[:LONGEST_LINE].rstrip(b"\r\n").decode("utf-8", errors="replace"))
    match = _FRONT.match(text)
    if match is None:
        return None, text
    return (float(match.group(1)) if match.group(1) else None), text[match.end() :]


def _kind(text: str) -> str:
    if _PANIC.match(text):
        return "panic"
    return next((kind for kind, pattern in _KINDS if pattern.search(text)), "")


def _belongs(current: str, kind: str, text: str) -> bool:
    """Whether a further beginning is part of the crash that is read: an oops tells of itself in
    several lines.
    """
    if kind == "panic":
        return current != "panic"
    same = kind == current
    return same and (
        current in {"machine-check", "panic"}
        or text.startswith(("Oops:", "general", "invalid", "divide"))
    )


def _headline(text: str) -> str:
    match = _PANIC.match(text)
    return clean_text(match.group(1) if match else text, 240)


class _Draft:
    """A crash that is being read."""

    def __init__(self, kind: str, headline: str, line: int, seconds: float | None) -> None:
        self.kind, self.headline, self.line, self.seconds, self.reason = (
            kind,
            headline,
            line,
            seconds,
            "",
        )
        self.where: re.Match[str] | None = None
        self.who: re.Match[str] | None = None
        self.calls: list[Call] = []
        self.hardware: list[str] = []

    def take(self, text: str) -> None:
        """What one line adds: the first of each counts, later ones are of programs or of other
        processors.
        """
        self.who = self.who or _WHO.search(text)
        if "[Hardware Error]" in text and len(self.hardware) < _MOST_TRACE:
            self.hardware += [clean_text(match.group(), 120) for match in _HARDWARE.finditer(text)]
        if self.where is None and (match := _WHERE.search(text)):
            self.where = match
        elif (match := _CALL.match(text)) and len(self.calls) < _MOST_TRACE:
            self.calls.append(Call(match.group(2), match.group(3) or "", not match.group(1)))

    def crash(self) -> KernelCrash:
        """The finished record. Some panics say why the kernel could go no further."""
        kind = self.kind
        if kind == "panic":
            kind = next((name for name, words in _ENDINGS if words.search(self.headline)), kind)
        who, where = self.who, self.where
        return KernelCrash(
            kind=kind,
            headline=self.headline,
            line=self.line,
            seconds=self.seconds,
            reason=self.reason,
            symbol=where.group(1) if where else "",
            module=(where.group(2) or "") if where else "",
            program=who.group(3) if who else "",
            processor=int(who.group(1)) if who else None,
            version=who.group(5) if who else "",
            taint=(who.group(4) or "").replace(" ", "").replace("G", "") if who else "",
            trace=tuple(self.calls),
            hardware=tuple(self.hardware),
        )


# One line of a text log: who wrote it, when, and the words. The usual forms are told apart by how
# the line begins.
#
# Sources: RFC 5424 6 (version, time, host, program, structured data); RFC 3164 4.1 (month, day,
# time, host, tag); Linux `kernel/printk/printk.c` (seconds since the start in brackets); `dpkg(1)`,
# its log (time, action, package, versions); `pacman(8)`, `zypper(8)`: their logs (time in brackets;
# columns between bars).


_PRIORITY = re.compile(r"^<\d{1,3}>")
_RFC5424 = re.compile(r"^1 (\S+) (\S+) (\S+) (\S+) (\S+) (-|(?:\[(?:[^\]\\]|\\.)*\])+) ?(.*)$")
_SHORT = re.compile(
    r"^([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) (?:(\S+) )?([^\s:\[]{1,64})(?:\[\d+\])?:(?: |$)(.*)$"
)
_ISO = re.compile(
    r"^(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d\S*)\s+(?:(\S+) ([^\s:\[]{1,64})(?:\[\d+\])?:(?:"
    r" |$))?(.*)$"
)
_BRACKETS = re.compile(r"^\[(\d{4}-\d\d-\d\d[T ]\d\d:\d\d)((?::\d\d)?\S*?)\] (.*)$")
_BARS = re.compile(r"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)(\|.*)$")
_KERNEL = re.compile(r"^\[ *(\d+\.\d+)\](?:\[ *[TC]\d+\])? ?(.*)$")


class Line(msgspec.Struct, frozen=True):
    """A line taken apart. `seconds` since the kernel began, and `short` for a time without its
    year.
    """

    record: LogRecord
    seconds: float | None
    short: str


def read_line(raw: bytes, number: int) -> Line:
    """What a line says. Any bytes give a line; `record.at` is None where the time is missing or
    lacks its year.
    """
    text = clean_text(
        raw[:LONGEST_LINE].rstrip(b"\r\n").decode("utf-8", errors="replace"), LONGEST_LINE
    )
    text = _PRIORITY.sub("", text, count=1)
    if match := _RFC5424.match(text):
        time, _, program, _, _, _, words = match.groups()
        return _line(time, program, words.removeprefix("\ufeff"), number)
    if match := _SHORT.match(text):
        seconds, words = _since_start(match.group(4))
        return Line(
            LogRecord(at=None, by=match.group(3), text=words, line=number, clock=seconds),
            seconds,
            match.group(1),
        )
    if match := _BRACKETS.match(text):
        rest = match.group(2) if match.group(2)[:1] == ":" else f":00{match.group(2)}"
        return _line(f"{match.group(1)}{rest}", "", match.group(3), number)
    if match := _BARS.match(text):
        return _line(match.group(1), "", match.group(2), number)
    if match := _ISO.match(text):
        return _line(match.group(1), match.group(3) or "", match.group(4), number)
    seconds, words = _since_start(text)
    return Line(
        LogRecord(at=None, by="kernel" if seconds is not None else "", text=words, line=number),
        seconds,
        "",
    )


def with_year(line: Line, year: int) -> LogRecord:
    """The record of a line whose time lacks its year."""
    at = read_short(line.short, year) if line.short else line.record.at
    zoned = line.record.zoned and not line.short
    return msgspec.structs.replace(line.record, at=at, zoned=zoned)


def _line(time: str, by: str, words: str, number: int) -> Line:
    read = read_time(time)
    at, zoned = read or (None, False)
    seconds, plain = _since_start(words)
    record = LogRecord(at=at, by=by, text=plain, line=number, zoned=zoned, clock=seconds)
    return Line(record, seconds, "")


def _since_start(words: str) -> tuple[float | None, str]:
    match = _KERNEL.match(words)
    return (float(match.group(1)), match.group(2)) if match else (None, words)


# Panic reports of Darwin kernels: the panic line, the extensions in its backtrace, what was
# started last.
#
# Source: XNU, `osfmk/kern/debug.c` and `osfmk/i386/AT386/model_dep.c` (panic line, backtrace,
# process name, kernel version), `libkern/c++/OSKext.cpp` (extensions in the backtrace, last started
# and last loaded ones). Newer systems wrap the same text in JSON.


PANIC_MARK = b"panic(cpu "
_PANIC_TEXT_PANIC = re.compile(r"panic\(cpu (\d+) caller (0x[0-9a-f]+)\): (.*)")
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


def read_panic(data: bytes) -> PanicReport | None:
    """The first panic in a report; None where there is none."""
    lines = _unwrapped(data).splitlines()[:_LINES]
    number = next(
        (number for number, line in enumerate(lines) if _PANIC_TEXT_PANIC.search(line)), None
    )
    if number is None:
        return None
    found, body = _PANIC_TEXT_PANIC.search(lines[number]), lines[number + 1 :]
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
        (value for value in values if isinstance(value, str) and PANIC_MARK.decode() in value), ""
    )


# What a processor says of an error of the hardware: the state of a bank of its machine-check
# registers.
#
# Source: the x86 architecture's software developer's manual, volume 3, chapter "Machine-Check
# Architecture": bits of the state of a bank, simple and compound error codes.


_VALID, _MORE, _UNCORRECTED, _LOST = 63, 62, 61, 57
_SIMPLE = {
    0x0001: "an error that it does not name",
    0x0002: "wrong parity in its own microcode",
    0x0003: "an error that another part reported",
    0x0005: "wrong parity inside the processor",
    0x0400: "a timer inside it ran out",
    0x0E0B: "an error of input or output",
}
_LEVELS = ("level 0", "level 1", "level 2", "some level")
_MACHINE_CHECK_KINDS = ("instructions", "data", "any kind", "any kind")
_MEMORY = ("any request", "reading", "writing", "an address or command", "cleaning", "", "", "")


def state_says(state: int) -> str:
    """One sentence on the state of a bank: 64 bits. Empty where the bank holds no error."""
    if not state >> _VALID & 1:
        return ""
    parts = ["not put right" if state >> _UNCORRECTED & 1 else "put right"]
    parts += ["the processor's state was lost"] if state >> _LOST & 1 else []
    parts += ["more errors came before it could be read"] if state >> _MORE & 1 else []
    return f"{code_says(state & 0xFFFF)}; {', '.join(parts)}"


def code_says(code: int) -> str:
    """What the 16 bits of an error code name."""
    plain = code & ~0x1000  # a flag on corrected errors, not a part of the code
    if plain in _SIMPLE:
        return _SIMPLE[plain]
    level, kind = _LEVELS[plain & 3], _MACHINE_CHECK_KINDS[plain >> 2 & 3]
    if plain & 0xF800 == 0x0800:
        return "a bus or the connection between processors and memory"
    if plain & 0xFF00 == 0x0100:
        return f"a cache of {level} for {kind}"
    if plain & 0xFF80 == 0x0080:
        channel = "" if plain & 15 == 15 else f", channel {plain & 15}"
        request = _MEMORY[plain >> 4 & 7]
        return f"memory{channel}" + (f", at {request}" if request else "")
    if plain & 0xFFF0 == 0x0010:
        return f"the address translation of {level} for {kind}"
    if plain & 0xFFFC == 0x000C:
        return f"a cache of {level}"
    return f"an error of its own kind, code {code:#06x}"
