"""What hives and set-up logs of the nt family tell of the past: devices, drivers, updates and
programs that came, and the last shutdown. A date that they do not hold is not made up.

Sources: published documentation of device properties (when a device was first installed, when its
driver was), of installed packages and of uninstallers.
"""

from collections.abc import Iterator
from typing import BinaryIO

from mending.crash.read.events import LogEvent
from mending.crash.read.file_read import FileRead
from mending.disk.hives import Hive, Key, control_set, current_versions
from mending.formats.nt import setup_log
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge import EventKind
from mending.model import InputError, clean_text, read_time
from mending.model.nt_time import unix_seconds

MAGIC, BY_HIVE = b"regf", "hive"
_TIMES = "{83da6326-97a6-4088-9453-a1923f573b29}"
_INSTALLED = {"0064": "driver", "0065": "device"}
"""When the driver of a device was installed last, and when the device came first."""
_PRESENT = 0x70
_NOON = 43_200.0
_MOST = 50_000


def read_hive(name: str, data: bytes) -> FileRead:
    """The past as a hive has it."""
    events, notes = list[LogEvent](), list[str]()
    for part in (_shutdown, _devices, _updates, _programs):
        try:
            for event in part(Hive(data).root):
                events.append(event)
                if len(events) >= _MOST:
                    break
        except (DamagedHiveError, InputError) as error:
            notes.append(f"{name} is damaged: {error.says}")
    told = [_named(event, name) for event in events]
    return FileRead(name=name, kind="hive", events=tuple(told), notes=tuple(dict.fromkeys(notes)))


def read_setup(name: str, stream: BinaryIO) -> FileRead:
    """The past as a log of set-up has it."""
    events = []
    for section in setup_log.read_setup_log(stream):
        if section.succeeded is None or not (section.drivers or section.name):
            continue
        kind = EventKind.REMOVED if section.removed else EventKind.INSTALLED
        names = " ".join(section.drivers)
        thing = section.name.replace("/", "\\").rpartition("\\")[2] if names else section.name
        events.append(
            LogEvent(
                at=section.at,
                kind=kind if section.succeeded else EventKind.FAILED,
                what="driver",
                name=clean_text(f"{names} ({thing})" if names else thing, 120),
                says=clean_text(f"{section.what}: {section.name}", 200),
                file=name,
                line=section.line,
                by="set-up log",
            )
        )
    return FileRead(name=name, kind="set-up log", events=tuple(events), zoned=False)


def _named(event: LogEvent, file: str) -> LogEvent:
    return LogEvent(
        at=event.at,
        kind=event.kind,
        what=event.what,
        name=event.name,
        says=event.says,
        file=file,
        by=BY_HIVE,
        placed=event.placed,
    )


def _shutdown(root: Key) -> Iterator[LogEvent]:
    """Of the keys of the control, one keeps it."""
    chosen = control_set(root)
    control = chosen.child("Control") if chosen is not None else None
    for key in control.children() if control is not None else ():
        at = _time(key.data("ShutdownTime"))
        if at is not None:
            yield LogEvent(at=at, kind=EventKind.CLEAN_STOP, says="last shutdown of the system")


def _devices(root: Key) -> Iterator[LogEvent]:
    chosen = control_set(root)
    buses = chosen.child("Enum") if chosen is not None else None
    for bus in buses.children() if buses is not None else ():
        for device in bus.children():
            for instance in device.children():
                times = instance.path("Properties", _TIMES)
                if times is not None:
                    yield from _of_device(f"{bus.name}\\{device.name}", instance, times)


def _of_device(path: str, instance: Key, times: Key) -> Iterator[LogEvent]:
    called = instance.text("FriendlyName") or instance.text("DeviceDesc") or path
    driver = instance.text("Service") or ""
    shown = clean_text(called.rpartition(";")[2], 80)
    seen = set[float]()
    for number, what in _INSTALLED.items():
        key = times.child(number) or times.child(f"0000{number}")
        at = _time(key.data("") if key is not None else None)
        if at is None or at in seen:
            continue
        seen.add(at)
        yield LogEvent(
            at=at,
            kind=EventKind.INSTALLED,
            what="driver",
            name=clean_text(f"{driver} ({shown})" if driver else shown, 120),
            says=clean_text(f"{what} {path} installed", 200),
        )


def _updates(root: Key) -> Iterator[LogEvent]:
    for current in current_versions(root):
        packages = current.path("Component Based Servicing", "Packages")
        for key in packages.children() if packages is not None else ():
            high, low = key.number("InstallTimeHigh"), key.number("InstallTimeLow")
            if high is None or low is None or key.number("CurrentState") != _PRESENT:
                continue
            at = _time((high << 32 | low).to_bytes(12, "little")[:8])
            if at is not None:
                name = clean_text(key.name.partition("~")[0], 120)
                yield LogEvent(
                    at=at,
                    kind=EventKind.INSTALLED,
                    what="update",
                    name=name,
                    says=f"{name} installed",
                )


def _programs(root: Key) -> Iterator[LogEvent]:
    """Programs keep the day alone: noon of it stands for it."""
    for current in current_versions(root):
        listed = current.child("Uninstall")
        for key in listed.children() if listed is not None else ():
            called, day = key.text("DisplayName"), key.text("InstallDate") or ""
            if not called or len(day) != 8 or not day.isascii() or not day.isdigit():
                continue
            read = read_time(f"{day[:4]}-{day[4:6]}-{day[6:]}T00:00:00Z")
            if read is not None:
                name = clean_text(called, 120)
                yield LogEvent(
                    at=read[0] + _NOON,
                    kind=EventKind.INSTALLED,
                    what="program",
                    name=name,
                    says=f"{name} installed on this day",
                    placed=True,
                )


def _time(data: bytes | None) -> float | None:
    """Unix seconds of a time in units of 100 ns since 1601; None for none, or one before 1990."""
    if data is None or len(data) < 8:
        return None
    at = unix_seconds(int.from_bytes(data[:8], "little"))
    return at if 631_152_000 < at < 32_503_680_000 else None
