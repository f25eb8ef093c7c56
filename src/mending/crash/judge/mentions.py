"""What the end of a run names: the modules that a crash points into, the program that ran, files in
its words, and, before an end in silence, whoever spoke last.

What stands in front of a line of a kernel's driver is the driver and the place of its device on the
bus (Linux 6.1, `drivers/base/core.c`, `__dev_printk`).
"""

import re
from collections.abc import Iterable, Iterator
from enum import StrEnum

import msgspec

from mending.crash.judge.silent_ends import ANSWERED
from mending.crash.results import CrashResult, SilentEndResult

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
