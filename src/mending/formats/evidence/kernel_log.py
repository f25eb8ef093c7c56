"""Logs of Linux kernels: where a crash begins, what it says of itself, and the lines that belong to
it.

Sources: Linux 6.1, `kernel/panic.c`, `arch/x86/kernel/dumpstack.c`, `arch/x86/mm/fault.c`,
`kernel/watchdog.c`, `Documentation/admin-guide/tainted-kernels.rst`; what stands in front of a
line: `kernel/printk/printk.c`, RFC 3164 4.1; when a kernel was built: `init/version-timestamp.c`,
`scripts/mkcompile_h` (as `date` writes it; distributions put a day of the form 2023-09-29 there).
"""

import re
from collections.abc import Iterable, Iterator

import msgspec

from mending.model import clean_text, read_short, read_time

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
