"""Keeping a healthy copy of a PC that starts."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from mending.app.host import Host
from mending.app.targets import NamedTarget
from mending.boot.chain import Trace
from mending.boot.trace import open_environment, trace_environment
from mending.disk.files import FilesUnavailableError, open_files, open_tree
from mending.disk.healthy import HealthyCopy, HealthyIndex, identifiers_of, load_copy, save_copy
from mending.disk.layout import survey, volume_at_moment
from mending.disk.locked import GivenKey, KeyRing, key_ring, volumes_of
from mending.disk.opening import moment_of, opened_target
from mending.disk.settings import CompareResult, HiveSet, compared, hive_set_of, losses_of, one_hive
from mending.disk.system import private_files
from mending.disk.volume import Volume
from mending.model import FilesystemKind, InputError, RefusedError, UsageError, Verdict
from mending.model.limits import HIVE_BYTES
from mending.repair.healthy import changed_parts, collect
from mending.source import Output, Source, open_folder_source, open_source
from mending.source.portable import keep_no_memory

_SECRET_HIVES = ("sam", "security", "software", "system")
"""Hives that hold what accounts and services keep secret."""


class KeepResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="keep/1"):
    """What was kept, and where. `files` are those whose content is in the copy; `sums` those of
    which only the sum is; `left_out` says what is in it neither way, or only by its sum. `private`
    are the files in it that hold secrets: it needs them, and is not for sending.
    """

    copy: str
    target: str
    verdict: str
    ranges: int
    files: int
    sums: int
    bytes: int
    copy_bytes: int
    left_out: tuple[str, ...]
    private: tuple[str, ...] = ()


def keep(
    target: NamedTarget,
    out: Output,
    at: str,
    *,
    anyway: bool = False,
    sector: int | None = None,
    secret: GivenKey | None = None,
) -> KeepResult:
    """Save what starts a PC.

    Args:
        anyway: also where its start ends somewhere.
        secret: what opens locked volumes; it is kept nowhere.

    Raises:
        RefusedError: a folder, or a PC that does not start.
        InputError: the copy cannot be written.
    """
    if secret is not None:
        keep_no_memory()
    with opened_target(target.path, sector) as source:
        environment = open_environment(source, key_ring(secret))
        trace = trace_environment(source, environment, target.firmware, target.boot_options)
        if trace.verdict is Verdict.FAILS and not anyway:
            raise RefusedError(
                f"This PC is not healthy: its start ends at {trace.failing_phase}.",
                "Mend it first; --anyway keeps it as it is.",
            )
        disk, left_out = environment.disk, list[str]()
        if disk is None:
            raise RefusedError(
                "A healthy copy is made of a disk and not of a folder.",
                "Name the image or the device.",
            )
        ranges, files = collect(environment, left_out)
        index = HealthyIndex(
            made=at,
            path=target.path,
            bytes=disk.source.size,
            sector=disk.source.bytes_per_sector,
            serial=disk.source.serial,
            firmware=trace.firmware,
            verdict=trace.verdict,
            identifiers=identifiers_of(disk),
            ranges=(),
            files=(),
        )
        whole = save_copy(out, index, ranges, files, left_out)
    return _kept(whole, out, left_out)


def _kept(whole: HealthyIndex, out: Output, left_out: Sequence[str]) -> KeepResult:
    """What a copy holds."""
    kept = [file for file in whole.files if file.kept]
    return KeepResult(
        copy=str(out.path),
        target=whole.path,
        verdict=whole.verdict,
        ranges=len(whole.ranges),
        files=len(kept),
        sums=len(whole.files) - len(kept),
        bytes=sum(kept.length for kept in whole.ranges) + sum(file.bytes for file in kept),
        copy_bytes=out.path.stat().st_size,
        left_out=tuple(left_out),
        private=tuple(file.path for file in kept if _is_private(file.path)),
    )


def _is_private(path: str) -> bool:
    """Whether a file of a system may hold secrets."""
    name = path.casefold().lstrip("/")
    return name in private_files() or name.endswith(tuple(f"/{hive}" for hive in _SECRET_HIVES))


def trace_against(trace: Trace, target: NamedTarget, copy: Path, sector: int | None) -> Trace:
    """A trace with what a healthy copy has otherwise.

    Raises:
        InputError: it is none.
    """
    opened = load_copy(copy)
    with opened_target(target.path, sector) as source:
        changed = tuple(changed_parts(opened.index, open_environment(source)))
    return msgspec.structs.replace(trace, against=changed)


# Two moments of the settings of a PC set against each other: hives, disks, their earlier moments,
# healthy copies, folders.


_HIVE, _COPY = b"regf", b"PK"


def compare(first: str, second: str, host: Host, secret: GivenKey | None = None) -> CompareResult:
    """What is otherwise in the settings of the second side.

    Args:
        first, second: a hive, a disk, `DISK@N` for the moment N that it keeps, a healthy copy, a
            mounted system, a folder of hives, or a case with a disk.
        secret: what opens locked volumes of disks; it is kept nowhere.

    Raises:
        InputError: one of them holds no settings that can be read.
        UsageError: both are one hive of another kind each.
    """
    if secret is not None:
        keep_no_memory()
    keys = KeyRing(secret)
    sides = _hives_of(first, host, keys), _hives_of(second, host, keys)
    both = [(side.system is not None, side.programs is not None) for side in sides]
    if not any(one and other for one, other in zip(*both, strict=True)):
        raise UsageError(
            f"{first} and {second} hold no hive of the same kind.",
            "Compare system hives with system hives, and those of programs with their like.",
        )
    return compared((first, second), *sides)


def losses(path: str, number: int, keys: KeyRing) -> tuple[str, ...]:
    """What going back to an earlier moment of a disk would take and bring, by the hives of both;
    the start's own parts first. Nothing where either cannot be read.
    """
    try:
        before, now = (_of_file(path, each, keys) for each in (number, None))
        if before is None or now is None:
            return ()
        return losses_of(before, now)
    except (InputError, FilesUnavailableError):  # the point itself is told all the same
        return ()


def _hives_of(name: str, host: Host, keys: KeyRing) -> HiveSet:
    disk, number = moment_of(name)
    path = NamedTarget(disk, host).path
    if Path(path).is_dir():
        if number is not None:
            raise UsageError(f"{path} is a folder; a disk keeps earlier moments.")
        found = _opened(lambda: hive_set_of(open_tree(open_folder_source(path), caseless=True)))
    else:
        found = _of_file(path, number, keys)
    if found is None:
        raise InputError(f"{name} holds no settings of the nt family.")
    return found


def _of_file(path: str, number: int | None, keys: KeyRing) -> HiveSet | None:
    with open_source(path) as source:
        head = source.read(0, 512).data
        if head.startswith(_HIVE):
            return one_hive(path, source.read(0, min(source.size, HIVE_BYTES)).data)
        if head.startswith(_COPY):
            return _of_copy(load_copy(Path(path)))
        return _of_disk(source, path, number, keys)


def _of_copy(copy: HealthyCopy) -> HiveSet | None:
    """The hives that a healthy copy holds."""
    numbers = {
        file.path.rpartition("/")[2].lower(): number
        for number, file in enumerate(copy.index.files)
        if file.path.lower().rpartition("/")[0].endswith("system32/config")
    }
    if "system" not in numbers:
        return None
    return one_hive(f"the system hive of {copy.path}", copy.file_bytes(numbers["system"]))


def _of_disk(disk: Source, path: str, number: int | None, keys: KeyRing) -> HiveSet | None:
    locked = any(
        volume.encrypted for volume in survey(disk).volumes
    )  # the key may be for the other
    source, listed = volumes_of(disk, keys if locked else None)
    volumes = [volume for volume in listed if volume.filesystem is FilesystemKind.NTFS]
    if number is None:
        return _first(source, volumes)
    refused: InputError | None = None
    for volume in volumes:
        try:
            viewed, was = volume_at_moment(source, volume, number)
        except InputError as error:
            refused = error
            continue
        found = _first(viewed, [was])
        if found is not None:
            return found
    if refused is not None:
        raise refused
    raise InputError(f"{path} keeps no moment {number} that holds a system of the nt family.")


def _first(source: Source, volumes: list[Volume]) -> HiveSet | None:
    for volume in volumes:
        try:
            found = hive_set_of(open_files(source, volume))
        except FilesUnavailableError:  # damage hides this volume; another may hold the system
            continue
        if found is not None:
            return found
    return None


def _opened(read: Callable[[], HiveSet | None]) -> HiveSet | None:
    try:
        return read()
    except FilesUnavailableError as error:
        raise InputError(error.says) from error
