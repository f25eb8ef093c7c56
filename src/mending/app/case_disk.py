"""The disk of a case: the very one that it was opened with, wherever it is now, or none.

A device's name goes to whatever is plugged in next, an image may be written anew, and a case may be
copied. So before anything is read of the disk of a case, or written to it, what is there is held
against what the disk was known by when it was attached or written to last: size and serial number,
the identifiers of its table and file systems, and samples of its content. Ranges that repairs of
this machine wrote since say nothing. There are three answers: it is the same; only content differs,
as after the PC's own use, which a person confirms once; or it is another disk, and nothing is done.
"""

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from mending.app.host import Host
from mending.case import FURTHER_DISK, Case, DiskKnown, add_evidence
from mending.case.events import Added, Outside, refuse_elsewhere, was_attached_here
from mending.disk.layout import identifier_ranges, survey
from mending.disk.opening import opened_target
from mending.model import Change, FileChange, InputError, Patch, RefusedError, plain_size, quoted
from mending.repair.journal import Journal
from mending.source import (
    Identity,
    Target,
    TargetKind,
    as_disk,
    fault_of,
    identity_of,
    known_key,
    machine_key,
)
from mending.source.devices import devices_of_size, lasting_name


class _Place(msgspec.Struct, frozen=True):
    """What was found at one place: by_use where no more than content differs."""

    path: str
    fault: str
    by_use: bool
    serial: str
    bytes: int


def identity_now(target: Target) -> Identity:
    """By what a disk or tree, as it is, will be known again."""
    disk = None if target.kind is TargetKind.FOLDER else survey(as_disk(target))
    return identity_of(target, (), identifier_ranges(disk))


def disk_known(case: Case | None, path: str, host: Host, before: Added | None = None) -> DiskKnown:
    """By what a disk that is about to be attached will be known, and whether it is the one that the
    case has already.

    Args:
        case: None for one that is about to be opened.
        before: what it may be the same as, where that is not the disk of the case.

    Raises:
        InputError: it cannot be read.
    """
    before = before or (case.state.attached if case is not None else None)
    with opened_target(path) as target:
        identity = identity_now(target)
        known = before.outside.identity if before is not None and before.outside else None
        same = False
        if case is not None and before is not None and known is not None:
            fault, by_use = _fault(known, target, _written_since(case, before, host))
            same = not fault or by_use
        lasting = lasting_name(path) if target.kind is TargetKind.DEVICE else ""
    return DiskKnown(identity, lasting, same)


def settle_disk(case: Case, host: Host) -> tuple[Case, str]:
    """The disk of a case, and where it is now; a disk that was used since is asked for once, and
    the case knows it by what it is now.

    Raises:
        InputError: the case has no disk, or it is nowhere.
        RefusedError: it is another one, was attached elsewhere, or nobody can be asked.
    """
    item = case.state.attached
    if item is None:
        raise InputError(
            f"The case {case.folder} has no disk yet.",
            f"Attach one: mending add {quoted(case.folder)} IMAGE",
        )
    return _settled(case, item, host)


def further_disks(case: Case, host: Host) -> tuple[Case, list[str]]:
    """The other disks of a case's PC, each held against what it was known by. Raises as
    `settle_disk`.
    """
    places = list[str]()
    for item in case.state.further:
        case, path = _settled(case, item, host)
        places.append(path)
    return case, places


def _settled(case: Case, item: Added, host: Host) -> tuple[Case, str]:
    if not was_attached_here(case.folder, item.path, item.outside, known_key(host.key)):
        question = f"{item.path} was not attached to the case {case.folder} here. Use it?"
        if not host.confirm(question):
            raise refuse_elsewhere(case.folder, item.path)
        return _attached_again(case, item, item.path, host)
    assert item.outside is not None
    if item.outside.identity is None:
        return case, item.path
    places = list[_Place]()
    for path in _candidates(item, item.outside):
        found = _look_at(path, item.outside.identity, _written_since(case, item, host))
        if found is None:
            continue
        if not found.fault:
            if found.path != item.path:
                host.tell(f"The disk of {case.folder} was {item.path}; it is {found.path} now.")
            return case, found.path
        places.append(found)
    return _asked_or_refused(case, item, places, host)


def vouched_disk(case: Case, host: Host) -> str | None:
    """Where the disk of a case is, if that is sure without asking; for what goes on without it."""
    if case.state.attached is None:
        return None
    silent = msgspec.structs.replace(host, ask=None, told=None)
    try:
        return settle_disk(case, silent)[1]
    except (InputError, RefusedError):
        return None  # it went back to its owner, say: what the case remembers is enough here


def _asked_or_refused(
    case: Case, item: Added, places: Sequence[_Place], host: Host
) -> tuple[Case, str]:
    used = [place for place in places if place.by_use]
    beside = " --beside" if item.sort == FURTHER_DISK else ""
    add = f"mending add {quoted(case.folder)}{beside}"
    if used:
        first = used[0]
        says = f"{first.path} is the disk of {case.folder}, but was changed since: {first.fault}."
        if host.confirm(f"{says} Was it used since, and is it still this PC's disk?"):
            return _attached_again(case, item, first.path, host)
        raise RefusedError(
            says, f"If it was used since and is this PC's disk: {add} {quoted(first.path)}"
        )
    if not places:
        raise InputError(
            f"The disk of {case.folder}, {item.path}, is not there.",
            f"Plug it in; if it has another name or place now: {add} PATH",
        )
    other = places[0]
    raise RefusedError(
        f"{other.path} is not the disk of {case.folder}: {other.fault}. It has"
        f" {_told(other.bytes, other.serial)}; the case has {item.path},"
        f" {_told(item.bytes, _serial(item))}, attached {item.at}.",
        f"If the PC has another disk now: {add} {quoted(other.path)}",
    )


def _told(count: int, serial: str) -> str:
    size = plain_size(count) if count else "a folder"
    return f"{size}, serial number {serial}" if serial else size


def _serial(item: Added) -> str:
    known = item.outside.identity if item.outside is not None else None
    return known.serial if known is not None else ""


def _attached_again(case: Case, item: Added, path: str, host: Host) -> tuple[Case, str]:
    known = disk_known(case, path, host, item)
    known = msgspec.structs.replace(known, same=True)
    key = machine_key(host.key)
    size = known.identity.bytes
    return add_evidence(case, host.hand, path, item.sort, size, key, known), path


def _candidates(item: Added, outside: Outside) -> Iterator[str]:
    """Where the disk may be: where it was, where its lasting name leads, and, of a device, wherever
    another one of its size is. Each place once.
    """
    seen = set[str]()
    is_device = not Path(item.path).exists() or Path(item.path).is_block_device()
    of_size = devices_of_size(item.bytes) if is_device and item.bytes else iter(())
    for path in (item.path, outside.lasting, *of_size):
        real = str(Path(path).resolve()) if path else ""
        if real and real not in seen:
            seen.add(real)
            yield real


def _look_at(path: str, identity: Identity, written: Sequence[Change]) -> _Place | None:
    try:
        with opened_target(path) as target:
            fault, by_use = _fault(identity, target, written)
            return _Place(path, fault, by_use, target.serial, target.size)
    except InputError:
        if Path(path).is_file() or Path(path).is_dir():
            raise
        return None  # a device that was pulled keeps its name for a while


def _fault(identity: Identity, target: Target, written: Sequence[Change]) -> tuple[str, bool]:
    """As `fault_of`; a drive that says its own number is the same, whatever was done to it."""
    fault, by_use, whole = fault_of(identity, target, written)
    if target.kind is TargetKind.FOLDER:  # its parts are all alike; of another tree none agrees
        return fault, by_use and not whole
    says_so = bool(target.serial) and target.serial == identity.serial
    return fault, by_use or (bool(fault) and says_so and target.size == identity.bytes)


def _written_since(case: Case, item: Added, host: Host) -> list[Change]:
    """The ranges that repairs of this machine wrote to a disk of that size since it was attached,
    through the case or past it.
    """
    touched = list[Change]()
    for folder in (case.undo_folder, host.undo_folder):
        for point in Journal(folder, host.key).load().points:
            is_later = max(point.file.made, point.state.at) >= item.at
            if is_later and point.file.target.bytes == item.bytes:
                touched += [
                    FileChange(kept.path, None, None, "")
                    if kept.path
                    else Patch(kept.offset, bytes(kept.length), bytes(kept.length), "")
                    for kept in point.file.patches
                ]
    return touched
