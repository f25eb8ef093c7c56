"""From what a person names to what is worked on: a case, its disk or tree, its undo points."""

import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, TypeVar

import msgspec

from mending.app.host import Host
from mending.boot.chain import Trace
from mending.crash.results import CrashesResult
from mending.model import InputError, NotGatheredError, TookTooMuchError, decode_json
from mending.source.archive import Bundle, is_bundle
from mending.source.portable import memory_taken

if TYPE_CHECKING:
    from mending.boot.uefi import BootOptions
    from mending.case import Case
    from mending.repair.base import MendSettings
    from mending.repair.journal import Journal


class NamedTarget:
    """A disk or tree to work on, and the case it belongs to, if any.

    Attributes:
        name: as the person typed it.
        path: of the image, device or folder; of a case, where its disk is now.
        firmware: `bios` or `uefi` where the case knows it.
        boot_options: what UEFI firmware remembers, where a dump of it was given or is in the case.
        undo_folder: where undo points of this target live.
    """

    def __init__(self, name: str, host: Host, variables: str | None = None) -> None:
        """Raises as `case_disk.settle_disk` does."""
        self.name = name
        self.case = _case_of(Path(name))
        self.path = name
        if self.case is not None:
            from mending.app.case_disk import settle_disk  # noqa: PLC0415 - lazy: cases only

            self.case, self.path = settle_disk(self.case, host)
        self.firmware = self.case.state.facts.get("firmware") if self.case else None
        dump = self.case.firmware_dump(host.key) if self.case else None
        if variables:
            dump = Path(variables)
        self.boot_options = _read_options(dump) if dump is not None else None
        self.undo_folder = self.case.undo_folder if self.case else host.undo_folder

    def refuse_closed(self) -> None:
        """Raise RefusedError where the case is closed: nothing is written to its disk then."""
        if self.case is not None:
            self.case.refuse_closed()

    def journal(self, host: Host) -> "Journal":
        """The undo points of this target."""
        from mending.repair.journal import Journal  # noqa: PLC0415 - lazy: a trace needs none

        return Journal(self.undo_folder, host.key)

    def settings(self) -> "MendSettings":
        """What is known of it that a repair has to know, and nothing allowed beyond the usual."""
        from mending.repair.base import MendSettings  # noqa: PLC0415 - lazy: a trace needs none

        return MendSettings(firmware=self.firmware, boot_options=self.boot_options)


def _read_options(dump: Path) -> "BootOptions":
    from mending.boot.uefi import read_boot_options  # noqa: PLC0415 - lazy: seldom given

    return read_boot_options(dump)


def _case_of(folder: Path) -> "Case | None":
    if not folder.is_dir():
        return None
    from mending.case import is_case, load_case  # noqa: PLC0415 - lazy: a bare disk has no case

    return load_case(folder) if is_case(folder) else None


# What one command that reads may take of this machine, whatever lies on the disk: time and memory.
#
# Every reader has bounds of its own for each chain that it follows. These here are for what a
# hostile or dying disk makes of many such chains. They are looked at once a second by an alarm, for
# a limit of the operating system on memory counts what an emulator only reserves.


MOST_MEMORY = 4 << 30
"""Bytes; the largest hive and the dearest key take a quarter of it."""
MOST_SECONDS = 900.0
"""A sound disk is traced in a second or two; a dying one that answers at all, in some minutes."""
_PAUSE = 1.0


@contextmanager
def within_bounds(
    what: str, seconds: float = MOST_SECONDS, memory: int = MOST_MEMORY, pause: float = _PAUSE
) -> Iterator[None]:
    """Read within so much time, by the clock on the wall, and memory; for work that writes nothing.

    Only the main thread can be stopped so, and only by a system with alarms; else nothing is
    watched.

    Args:
        what: what is read, as a person would name it.
        memory: of the whole process, in bytes.
        pause: seconds between two looks.

    Raises:
        TookTooMuchError
    """
    has_alarm = hasattr(signal, "setitimer")
    if not has_alarm or threading.current_thread() is not threading.main_thread():
        yield
        return
    until = time.monotonic() + seconds

    def look(_number: int, _frame: FrameType | None) -> None:
        if time.monotonic() > until:
            raise TookTooMuchError(
                f"{what} was read for {seconds / 60:.0f} minutes without an end, and nothing is"
                " known of it.",
                "A drive this slow may be failing: copy it first (mending copy), then look at"
                " that.",
            )
        if memory_taken() > memory:
            raise TookTooMuchError(
                f"Reading {what} took more than the {memory >> 20} MiB of memory that a command"
                " may take, and nothing is known of it."
            )

    before = signal.signal(signal.SIGALRM, look)
    signal.setitimer(signal.ITIMER_REAL, pause, pause)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


# What a disk answered when a bundle was made of it, for questions that need more than it holds.


TRACE, CRASHES = "trace.json", "crashes.json"
"""Members of a bundle."""
_TOLD = "{} (as its disk answered)"
Answer = TypeVar("Answer", Trace, CrashesResult)


def traced_or_told(path: str, ask: Callable[[], Trace]) -> Trace:
    """A trace; of a bundle that does not hold all of it, the one of its disk.

    Raises:
        NotGatheredError: neither.
    """
    try:
        if not _is_crossed_out(path):
            return ask()
    except NotGatheredError:
        pass  # the answer was kept for that
    return named(_told(path, TRACE, Trace), _TOLD.format(path))


def crashes_or_told(path: str, ask: Callable[[], CrashesResult]) -> CrashesResult:
    """What records tell, in the same way."""
    try:
        if not _is_crossed_out(path):
            return ask()
    except NotGatheredError:
        pass  # the answer was kept for that
    told = _told(path, CRASHES, CrashesResult)
    return msgspec.structs.replace(told, target=_TOLD.format(path))


def _is_crossed_out(path: str) -> bool:
    """Whether a bundle says that its bytes do not give its disk's answers."""
    if not is_bundle(Path(path)):
        return False
    bundle = Bundle(Path(path))
    try:
        return bundle.index.crossed_out
    finally:
        bundle.close()


def _told(path: str, name: str, kind: type[Answer]) -> Answer:
    if not is_bundle(Path(path)):
        raise InputError(f"{path} is no bundle any more.")
    bundle = Bundle(Path(path))
    try:
        return decode_json(bundle.document(name), kind)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(f"{path}: {name} is damaged.") from error
    finally:
        bundle.close()


def named(trace: Trace, name: str) -> Trace:
    """A trace of a target that is called otherwise."""
    return msgspec.structs.replace(trace, target=msgspec.structs.replace(trace.target, path=name))
