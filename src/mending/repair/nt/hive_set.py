"""The repair `hive-set`: all hives of one moment put back, from a folder of copies, an earlier
moment of the volume, a healthy copy or a folder of this machine.

A set is used whole or not at all. The present set, its logs with it, is kept beside under a free
name. What came since is lost with it, so a person chooses the moment, with the losses at hand.
"""

import datetime
import re
from collections.abc import Callable, Iterator

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, SET, NtStart, copies_beside
from mending.boot.settings import HiveSet, hive_set_of, losses_of
from mending.disk.files import Files, FilesUnavailableError, open_files, open_tree
from mending.disk.healthy import HealthyCopy, why_not_of
from mending.disk.hives import Hive, HiveEditor, newest_of, read_to_end, replayed
from mending.disk.layout import volume_at_moment
from mending.disk.shadow import shadow_copies
from mending.model import Change, FindingId, InputError, RefusedError, RepairId, plain_time, quoted
from mending.model.limits import HIVE_BYTES
from mending.model.nt_time import unix_seconds
from mending.repair.base import Proposal, Request
from mending.repair.files import free_name, nt_home, put_by_driver, real_path
from mending.source import open_folder_source

REPAIR = RepairId.HIVE_SET
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


def propose(request: Request) -> Proposal:
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
        repair=REPAIR,
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
    called_for = bool(request.calling_for(REPAIR))
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
