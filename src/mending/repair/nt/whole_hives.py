"""The repair `hive-set`: all hives of one moment put back, from a folder of copies, an earlier
moment of the volume, a healthy copy or a folder of this machine.

A set is used whole or not at all. The present set, its logs with it, is kept beside under a free
name. What came since is lost with it, so a person chooses the moment, with the losses at hand.
"""

import contextlib
import datetime
import re
import struct
from collections.abc import Callable, Iterator

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, SET, NtStart, copies_beside
from mending.disk.files import Files, FilesUnavailableError, open_files, open_tree
from mending.disk.healthy import HealthyCopy, why_not_of
from mending.disk.hives import Hive, HiveEditor, newest_of, read_to_end, replayed
from mending.disk.layout import volume_at_moment
from mending.disk.settings import HiveSet, hive_set_of, losses_of
from mending.disk.shadow import shadow_copies
from mending.disk.volume import Volume
from mending.formats import hives
from mending.formats.hives import BASE_BYTES, HEAD_BYTES, MAGIC, NOTHING, read, read_key
from mending.model import (
    Change,
    FindingId,
    InputError,
    RefusedError,
    RepairId,
    Window,
    plain_time,
    quoted,
)
from mending.model.data import unix_seconds
from mending.model.limits import HIVE_BYTES
from mending.repair.base import Proposal, Request
from mending.repair.files import free_name, put_by_driver, real_path
from mending.repair.nt.changing import (
    HiveFile,
    nt_home,
    nt_homes,
    open_hive,
    open_system_hive,
    put_hive,
    store_volumes,
)
from mending.source import open_folder_source

HIVE_SET = RepairId.HIVE_SET
_FOLDER = "system32/config"
_KINDS = (
    FindingId.HIVE_DAMAGED,
    FindingId.HIVE_DAMAGED_INSIDE,
    FindingId.CONTROL_SET_MISSING,
    FindingId.HIVE_UNFINISHED,
)
_MOST_LISTED = 6
_DAY = re.compile(r"\d{4}-\d\d-\d\d(?!\d)", re.ASCII)
_Read = Callable[[str], bytes]
"""A file of a set by its name; empty where there is none."""


class _Moment(msgspec.Struct, frozen=True):
    """A set of hives.

    Attributes:
        told: where it is, for people.
        hives: whole files by name, their logs laid in.
        written: when the system hive was written last, 100 ns since 1601.
    """

    told: str
    hives: dict[str, bytes]
    written: int

    @property
    def at(self) -> str:
        """That time for people."""
        seconds = unix_seconds(self.written)
        return plain_time(seconds) if seconds > 0 else "at an unknown time"


def propose_hive_set(request: Request) -> Proposal:
    """Changes that put a set back.

    Raises:
        RefusedError: nobody chose a set, it is not whole, or a guard says no.
    """
    start = nt_home(request)
    moment = _chosen(request, start)
    environment, files = request.environment, dict[str, bytes | None]()
    home = start.path(_FOLDER)
    kept = free_name(request, start.volume, f"{home}/before-{_day(moment.at)}")
    for name, data in moment.hives.items():
        path = real_path(request, start.volume, f"{home}/{name}")
        logs = {}
        for ending in LOGS:
            log = environment.find(start.volume, f"{path}{ending}")
            if log is not None and log.bytes:
                logs[log.path] = environment.read(start.volume, log.path, HIVE_BYTES)
        if environment.find(start.volume, path) is not None:
            present = environment.read(start.volume, path, HIVE_BYTES)
            files[f"{kept}/{name}"] = present
        for log_path, log_data in logs.items():
            files[f"{kept}/{log_path.rpartition('/')[2]}"] = log_data
            files[log_path] = None
        files[path] = HiveEditor(data).finished(newest_of(list(logs.values())))
    changes: list[Change] = [
        *put_by_driver(request.disk, start.volume, request.settings, files, {})
    ]
    return Proposal(
        repair=HIVE_SET,
        says=f"Puts back the hives of {moment.at} from {moment.told}; the present ones are kept in"
        f" {kept}.{_losses(request, start, moment)}",
        changes=tuple(changes),
        answers=request.found(*_KINDS),
        fault_after=lambda _trace: "",
    )


def _day(at: str) -> str:
    """The day of a moment as part of a name; a word of ours where nobody knows it."""
    return at[:10] if _DAY.match(at) else "older-set"


def _chosen(request: Request, start: NtStart) -> _Moment:
    settings = request.settings
    if settings.hives:
        return _of_volume(request, start, settings.hives)
    if settings.healthy is not None:
        return _of_copy(request, settings.healthy)
    if settings.restore_from is not None:
        return _of_folder(request)
    found = list(_offered(request, start))
    if not found:
        raise RefusedError(
            "No whole set of hives lies beside the present ones, and the volume keeps no earlier"
            " moment.",
            "Add --from PLACE: a healthy copy, or a folder with all of them.",
            "--from PLACE",
        )
    found.sort(key=lambda pair: pair[1].written, reverse=True)
    called_for = bool(request.calling_for(HIVE_SET))
    if called_for and len(found) == 1 and settings.yes and _losses(request, start, found[0][1]):
        return found[0][1]  # what would be lost is known and shown, and there is no other
    listed = "; ".join(f"{moment.at} (--hives {place})" for place, moment in found[:_MOST_LISTED])
    since = request.settings.failing_since()
    wanted, why = _before(found, since)
    raise RefusedError(
        f"Which moment is put back: {listed}? {why} Of {wanted.at}:"
        f"{_losses(request, start, wanted) or ' what would be lost cannot be told.'}",
        "" if since else "The newest from before the failing began is the right one.",
        "--hives " + next(quoted(place) for place, moment in found if moment is wanted),
    )


def _before(found: list[tuple[str, _Moment]], since: str) -> tuple[_Moment, str]:
    """The newest moment from before the failing began, and how it is told.

    Args:
        found: the newest first. since: RFC 3339; empty where it is not known.
    """
    if not since:
        return found[0][1], "No record tells when failing began."
    began = datetime.datetime.fromisoformat(since).timestamp()
    for place, moment in found:
        if unix_seconds(moment.written) < began:
            return moment, f"Failing began on {since[:10]}; the newest from before is {place}."
    return found[0][1], f"Failing began on {since[:10]}, and none is from before."


def _offered(request: Request, start: NtStart) -> Iterator[tuple[str, _Moment]]:
    """Every whole set on the volume, with what names it."""
    for copies in copies_beside(request.environment, start.volume, start.path(_FOLDER)):
        if not copies.why_not:
            yield copies.folder, _of_volume(request, start, copies.folder)
    disk, volume = request.disk, start.volume
    try:
        entries = shadow_copies(disk.source, volume.offset, volume.bytes).entries
    except InputError:
        return
    for entry in entries:
        try:
            yield str(entry.number), _of_volume(request, start, str(entry.number))
        except RefusedError:
            continue  # a moment without a whole set is none to go back to


def _of_volume(request: Request, start: NtStart, place: str) -> _Moment:
    """A set of the system's own volume: a folder, or an earlier moment by its number."""
    if not place.isdigit():
        files, folder = request.environment.files(start.volume), place
        return _whole(f"{place} on volume {start.volume.number}", _reader(files, folder))
    try:
        source, was = volume_at_moment(request.disk.source, start.volume, int(place))
        files = open_files(source, was)
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    return _whole(f"moment {place} of the volume", _reader(files, start.path(_FOLDER)))


def _of_copy(request: Request, copy: HealthyCopy) -> _Moment:
    why = why_not_of(copy.index, request.disk)
    if why and not request.settings.other_pc:
        raise RefusedError(
            f"{copy.path} is of another PC: {why}.",
            "If it surely fits, add --other-pc.",
            "--other-pc",
        )
    numbers = {
        file.path.rpartition("/")[2].casefold(): number
        for number, file in enumerate(copy.index.files)
        if file.path.casefold().rpartition("/")[0].endswith(_FOLDER) and file.kept
    }

    def read(name: str) -> bytes:
        number = numbers.get(name.casefold())
        return copy.file_bytes(number) if number is not None else b""

    return _whole(copy.path.name, read)


def _of_folder(request: Request) -> _Moment:
    folder = request.settings.restore_from
    try:
        files = open_tree(open_folder_source(str(folder)), caseless=True)
        inside = hive_set_of(files)
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    home = inside.home if inside is not None else ""
    return _whole(str(folder), _reader(files, home))


def _reader(files: Files, folder: str) -> _Read:
    def read(name: str) -> bytes:
        found = files.find(f"{folder}/{name}")
        if found is None or found.is_folder or found.bytes > HIVE_BYTES:
            return b""
        return files.read(found, HIVE_BYTES)

    return read


def _whole(told: str, read: _Read) -> _Moment:
    """The set, if every hive of it is there, whole, and can be read to the last value.

    Raises:
        RefusedError: one of them is not.
    """
    hives, written = {}, 0
    for name in SET:
        try:
            data = read(name)
            if not data:
                raise RefusedError(f"The set in {told} is not whole: {name} is missing or empty.")
            after = replayed(data, [read(f"{name}{ending}") for ending in LOGS])
            hive = Hive(after.data)
            problems = hive.check()
            read_to_end(hive)
        except (OutOfReachError, FilesUnavailableError, InputError) as error:
            if isinstance(error, RefusedError):
                raise
            raise RefusedError(f"The set in {told} is damaged: {name}: {error}") from error
        if problems or not after.is_whole:
            why = problems[0].code if problems else "its last write was cut off"
            raise RefusedError(f"The set in {told} is damaged: {name} ({why}).")
        hives[name] = after.data
        written = hive.base.written if name == SET[0] else written
    return _Moment(told, hives, written)


def _losses(request: Request, start: NtStart, moment: _Moment) -> str:
    """What would be lost or come back, as a sentence; empty where the present hives cannot be
    read.
    """
    try:
        now = hive_set_of(request.environment.files(start.volume))
    except FilesUnavailableError:
        return ""
    if now is None or now.system is None or now.programs is None:
        return ""
    before = HiveSet(
        home="",
        system=Hive(moment.hives["SYSTEM"]),
        programs=Hive(moment.hives["SOFTWARE"]),
        written=moment.written,
        notes=(),
    )
    told = losses_of(before, now)
    return f" {'; '.join(told)}." if told else " No driver, program or update came since."


# The repair `hive-header`: the base block of a hive rebuilt where its bins are sound to the last
# cell and every key can be read.
#
# The length is that of the bins themselves; a log must not tell of more. Where the root is, the old
# base block tells, or the mark of the one root key.


HIVE_HEADER = RepairId.HIVE_HEADER
_BIN_HEAD, _ROOT_FLAG, _MAJOR, _MINORS = 32, 4, 1, range(3, 7)
_USUAL_MINOR, _NEWEST = 5, 6


def propose_hive_header(request: Request) -> Proposal:
    """Changes of the base blocks of every hive that a finding names and whose bins are sound.

    Raises:
        RefusedError: none is, or none needs it.
    """
    changes, told, why = list[Change](), list[str](), ""
    for volume, path in _hives(request):
        data = _read(request, volume, path)
        logs = [_read(request, volume, f"{path}{ending}") for ending in LOGS]
        if not _needs(data):
            continue
        try:
            after = rebuilt(data, logs)
        except InputError as error:
            why = why or f"{path}: {error.says}"
            continue
        changes += put_hive(request, volume, path, data, after, f"base block of {path}")
        told.append(path)
    if not changes:
        says = why or "The base block of every hive is sound."
        raise RefusedError(says, "Put back a whole set: hive-set." if why else "")
    kinds = (FindingId.HIVE_DAMAGED, FindingId.BOOT_STORE_DAMAGED)
    named = {path.casefold() for path in told}
    return Proposal(
        repair=HIVE_HEADER,
        says=f"Rebuilds the base block of {', '.join(told)}: the bins are sound to the last cell.",
        changes=tuple(changes),
        answers=tuple(
            each for each in request.found(*kinds) if (each.where.path or "").casefold() in named
        ),
        fault_after=lambda _trace: "",
    )


def rebuilt(data: bytes, logs: list[bytes]) -> bytes:
    """A hive with a base block made anew.

    Raises:
        InputError: its bins are broken, or disagree with what else tells of them.
    """
    old = hives.read(Window(data[:BASE_BYTES])).record
    length = hives.bins_length(data)
    if not length:
        raise InputError("it holds no bins.")
    heads = [hives.read(Window(log[:512])) for log in logs if len(log) >= 512]
    told = {head.record.bins for head in heads if not head.problems}
    if told and length not in told and max(told) > length:
        raise InputError(f"its logs tell of {max(told)} bytes of bins, and {length} are there.")
    problems = hives.check_bins(data[BASE_BYTES:], length)
    if problems:
        raise InputError(f"its bins are broken at offset {problems[0].offset}.")
    roots = [old.root] if _is_root(data, old.root) else _roots(data, length)
    if len(roots) != 1:
        raise InputError(f"it holds {len(roots)} root keys.")
    root = roots[0]
    minors = [head.record.minor for head in heads if head.record.minor in _MINORS]
    known = (old.major, old.minor in _MINORS) == (_MAJOR, True) and old.magic == hives.MAGIC
    minor = old.minor if known else next(iter(minors), _USUAL_MINOR)
    number = max(newest_of(logs), old.first if known else 0, old.second if known else 0) + 1
    base = bytearray(data[:BASE_BYTES]) if known else bytearray(BASE_BYTES)
    fields = (hives.MAGIC, number & NOTHING, number & NOTHING, old.written if known else 0)
    struct.pack_into("<4sIIQ", base, 0, *fields)
    struct.pack_into("<IIIIII", base, 20, _MAJOR, minor, 0, 1, root, length)
    struct.pack_into("<I", base, 44, 1)
    base[508:512] = hives.checksum(bytes(base[:512])).to_bytes(4, "little")
    after = bytes(base) + data[BASE_BYTES:]
    read_to_end(Hive(after))
    return after


def _roots(data: bytes, length: int) -> list[int]:
    """Every cell in use that holds a root key."""
    found, start = [], 0
    while start < length:
        (size,) = struct.unpack_from("<I", data, BASE_BYTES + start + 8)
        at = start + _BIN_HEAD
        while at < start + size:
            (wide,) = struct.unpack_from("<i", data, BASE_BYTES + at)
            found += [at] if wide < 0 and _is_root(data, at) else []
            at += abs(wide)
        start += size
    return found


def _is_root(data: bytes, at: int) -> bool:
    place = BASE_BYTES + at + 4
    try:
        return bool(read_key(data[place : place + 512], at).flags & _ROOT_FLAG)
    except InputError:
        return False


def _needs(data: bytes) -> bool:
    if len(data) < BASE_BYTES:
        return bool(data)
    problems = hives.read(Window(data[:BASE_BYTES])).problems
    # a write that was cut off is no fault of the head: to call it finished would hide what is lost
    return any(problem.code != "write-unfinished" for problem in problems)


def _hives(request: Request) -> Iterator[tuple[Volume, str]]:
    """The hives of every system, and boot configurations."""
    environment = request.environment
    for start in nt_homes(request):
        for name in SET:
            found = environment.find(start.volume, start.path(f"{_FOLDER}/{name}"))
            if found is not None and not found.is_folder:
                yield start.volume, found.path
    yield from store_volumes(request)


def _read(request: Request, volume: Volume, path: str) -> bytes:
    try:
        return request.environment.read(volume, path, HIVE_BYTES)
    except OutOfReachError as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error


# The repair `hive-log`: the writes that the logs of a hive hold, laid into it as its kernel would
# at the next start. Logs of another hive, or older ones, are never used; `disk.hives.replayed`
# tells.


HIVE_LOG = RepairId.HIVE_LOG


def propose_hive_log(request: Request) -> Proposal:
    """Changes that lay the logs of every hive in that has some waiting.

    Raises:
        RefusedError: no log holds anything that its hive lacks, or a guard says no.
    """
    changes, told = list[Change](), list[str]()
    for file in (*_of_system(request), *_stores(request)):
        if not file.after.applied:
            continue
        _refuse_other(request, file)
        data = file.after.data.ljust(len(file.data), b"\0")
        says = f"{file.path} with {file.after.applied} writes of its logs"
        changes += put_hive(request, file.volume, file.path, file.data, data, says)
        told.append(f"{file.path} ({file.after.applied} writes)")
    if not changes:
        raise RefusedError("No log holds a write that its hive lacks.", "Nothing is written.")
    return Proposal(
        repair=HIVE_LOG,
        says=f"Lays the logs in: {', '.join(told)}.",
        changes=tuple(changes),
        answers=(),
        fault_after=lambda _trace: "",  # read back as it was worked out: the journal sees to that
    )


def _refuse_other(request: Request, file: HiveFile) -> None:
    """Raise RefusedError where a log beside a hive is not its own: it carries another root, or the
    name of another file.
    """
    ours = read(Window(file.data[:BASE_BYTES])).record
    for ending in LOGS:
        log = request.environment.read_head(file.volume, f"{file.path}{ending}", HEAD_BYTES)
        if len(log) < HEAD_BYTES:
            continue
        head = read(Window(log)).record
        if head.magic == MAGIC and (head.root, head.name) != (ours.root, ours.name):
            raise RefusedError(
                f"The log {file.path}{ending} belongs to another hive.", "Set it aside first."
            )


def _of_system(request: Request) -> list[HiveFile]:
    try:
        start: NtStart = nt_home(request)
    except RefusedError:
        return []
    found = []
    for name in SET:
        try:
            file = open_system_hive(request, start, f"{_FOLDER}/{name}")
            list(Hive(file.after.data).root.children())
        except (RefusedError, InputError, OutOfReachError):
            continue  # a hive that cannot be used is no case for its logs
        found.append(file)
    return found


def _stores(request: Request) -> list[HiveFile]:
    found = []
    for volume, path in store_volumes(request):
        with contextlib.suppress(RefusedError):  # one that cannot be used is no case for its logs
            found.append(open_hive(request, volume, path))
    return found
