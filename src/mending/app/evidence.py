"""Cases opened, evidence attached and read."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from mending.app.case_disk import disk_known, settle_disk, vouched_disk
from mending.app.healthy import losses
from mending.app.host import Host
from mending.app.targets import NamedTarget, crashes_or_told, within_bounds
from mending.app.tracing import trace
from mending.boot.trace import open_environment
from mending.case import (
    DISK,
    FURTHER_DISK,
    VARIABLES,
    Case,
    DiskKnown,
    add_evidence,
    check_new_name,
    crash_files,
    evidence_sort,
    heard,
    learned,
    named_disk,
    open_case,
    records_read,
)
from mending.case.events import AnyEvent, Home
from mending.crash.judge import analyse, codes_in_records
from mending.crash.read import (
    FileRead,
    LogFile,
    Reader,
    log_files,
    moments_on,
    opened_log,
    packages_of,
)
from mending.crash.results import CrashesResult
from mending.disk.locked import GivenKey, KeyRing
from mending.disk.opening import opened_target, refuse_named_twice
from mending.knowledge import EventKind, Pack, base_codes, base_events
from mending.model import InputError, UsageError, plain_time
from mending.reason import Statement
from mending.source import machine_key
from mending.source.portable import keep_no_memory

_COMING = {EventKind.INSTALLED, EventKind.PLUGGED, EventKind.LOADED}


def start_case(
    folder: str,
    disks: Sequence[str],
    pack: Pack,
    facts: Mapping[str, str],
    notes: Mapping[str, str],
    host: Host,
    statements: Sequence[Statement] = (),
    shop: Mapping[str, str] = {},
) -> Case:
    """Open a case, attach its disk and trace it. What is no disk does not leave half a case.

    Args:
        disks: the first is the one that the PC starts from; none where it is not there yet.
        shop: the fields that a workshop keeps.
        statements: what was understood of the notes.
    """
    check_new_name(Path(folder))
    opened = list[tuple[str, int, DiskKnown]]()
    refuse_named_twice(disks)
    for disk in disks:
        with opened_target(disk) as source:
            open_environment(source)
            size = source.size
        opened.append((disk, size, disk_known(None, disk, host)))
    at = host.clock()
    first = learned(pack, facts, notes, at, shop)

    def events(home: Home) -> list[AnyEvent]:
        told: list[AnyEvent] = [first, *(heard(statement, at) for statement in statements)]
        for number, (disk, size, known) in enumerate(opened):
            sort = FURTHER_DISK if number else DISK
            told.append(named_disk(disk, size, at, home, machine_key(host.key), known, sort))
        return told

    case = open_case(Path(folder), events, at)
    if not opened:
        return case
    target = NamedTarget(str(case.folder), host)
    trace(target, host)
    return target.case or case


def attach(case: Case, path: str, host: Host, as_disk: bool = False, beside: bool = False) -> Case:
    """Attach evidence; a disk is traced at once, and again when it becomes known what firmware
    remembers. Crash records are attached and not read: see `read_case`.

    Args:
        as_disk: take it for a disk, whatever it begins with.
        beside: it is a further disk of the PC, not the one that it starts from.
    """
    case.refuse_closed()
    kind, size = evidence_sort(path, as_disk or beside)
    if beside and Path(path).is_dir():
        raise UsageError("A mounted system is no further disk.", "Name the disk itself.")
    kind = FURTHER_DISK if beside else kind
    known = disk_known(case, path, host) if kind in {DISK, FURTHER_DISK} else None
    if beside and known is not None and known.same:
        raise UsageError(f"{path} is the disk of the case already.", "Name another one.")
    grown = add_evidence(case, host.hand, path, kind, size, machine_key(host.key), known)
    if kind == DISK or (kind in {FURTHER_DISK, VARIABLES} and grown.state.disk):
        target = NamedTarget(str(grown.folder), host)
        trace(target, host)
        return target.case or grown
    return grown


def holds_records(case: Case) -> bool:
    """Whether what was attached last may tell of crashes."""
    return case.state.evidence[-1].sort not in {DISK, FURTHER_DISK, VARIABLES}


def read_crashes(
    target: str, files: list[LogFile], system: str | None = None, keys: KeyRing | None = None
) -> CrashesResult:
    """Read every file and put together what they tell.

    Args:
        system: a tree, a folder or a disk whose package database may tell what packages bring.
        keys: what opens its locked volumes.

    Raises:
        InputError, UsageError
    """
    codes = base_codes()
    reader, reads, count = Reader(codes, base_events()), list[FileRead](), 0
    for file in files:
        try:
            with opened_log(file, keys) as source:
                reads += reader.read(file.name, source, file.modified)
                count += source.bytes_read
        except InputError as error:
            if file.inside is None:
                raise
            reads.append(FileRead(name=file.name, kind="damaged", notes=(error.says,)))
    reads += moments_on(Path(system), keys) if system else ()
    changed = {
        event.name
        for read in reads
        for event in read.events
        if event.kind in _COMING and event.name
    }
    contents = packages_of(Path(system), sorted(changed), keys) if system else {}
    return analyse(target, reads, count, codes, contents)


def crashes_of(
    name: str, case: Case | None, host: Host, secret: GivenKey | None = None
) -> CrashesResult:
    """What the records of a target or of a case tell; a case remembers it.

    Args:
        secret: what opens locked volumes; it is kept nowhere.

    Raises:
        InputError, UsageError, TookTooMuchError
    """
    if secret is not None:
        keep_no_memory()
    keys = KeyRing(secret)
    disk: str | None = name
    kept = list[LogFile]()
    if case is not None:
        kept = crash_files(case, host.key)
        case, disk = settle_disk(case, host) if case.state.disk else (case, None)

    def ask() -> CrashesResult:
        on_disk = log_files(Path(disk), keys) if disk else []
        result = read_crashes(name, [*kept, *on_disk], disk, keys)
        return _with_losses(result, disk, keys) if disk else result

    with within_bounds(name):
        result = crashes_or_told(disk or name, ask)
    if case is not None:
        read_case(case, host, result)
    return result


def _with_losses(result: CrashesResult, disk: str, keys: KeyRing) -> CrashesResult:
    """Where the point to go back to is a moment that the disk itself keeps, what would go and come
    with it, by the hives of both moments.
    """
    point = result.restore_point
    if point is None or not point.id.isdecimal():
        return result
    moments = [each for read in moments_on(Path(disk), keys) for each in read.points]
    if (point.id, point.at) not in {(each.id, plain_time(each.at)) for each in moments}:
        return result
    undoes = (*point.undoes, *losses(disk, int(point.id), keys))
    changed = msgspec.structs.replace(point, undoes=tuple(dict.fromkeys(undoes)))
    return msgspec.structs.replace(result, restore_point=changed)


def read_case(case: Case, host: Host, result: CrashesResult | None = None) -> Case:
    """Let a case remember what its crash records show.

    Raises:
        UsageError: an extra is missing.
    """
    told = result
    if told is None:
        files = crash_files(case, host.key)
        told = read_crashes(str(case.folder), files, vouched_disk(case, host))
    if case.state.closed is not None:
        return case
    return records_read(case, host.hand, told, codes_in_records(told, base_codes()))
