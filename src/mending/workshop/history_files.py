"""A history as the files that a PC would have left: exported events of the nt family, a journal, a
text log.
"""

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from xml.sax.saxutils import escape

from mending.workshop.dumps import DumpDraft
from mending.workshop.histories import Entry, History, history

_HOST = "slip-desk"
_MAKER = "Skerrivane-"


def as_xml(story: History) -> bytes:
    """Events as XML, in the order in which they were written down: a crash is told of after the
    next start.
    """
    rows: list[str] = []
    crash = None
    for entry in story.entries:
        if entry.what == "crash":
            crash = entry
            continue
        for by, number, values in _events(entry, crash if entry.what == "start" else None):
            rows.append(_row(entry.at, by, number, values, len(rows) + 1))
        crash = None if entry.what == "start" else crash
    return (
        "<?xml version='1.0' encoding='utf-8'?>\n<Events>\n" + "\n".join(rows) + "\n</Events>\n"
    ).encode()


def _events(entry: Entry, crash: Entry | None) -> Iterator[tuple[str, int, dict[str, str]]]:
    match entry.what:
        case "start":
            yield "Kernel-General", 12, {}
            if crash is not None:
                yield (
                    "Kernel-Power",
                    41,
                    {"BugcheckCode": str(crash.code), "BugcheckParameter1": "0x0"},
                )
            if crash is not None and crash.code:
                yield (
                    "SystemErrorReporting",
                    1001,
                    {"param1": f"0x{crash.code:08x} (0x0, 0x0, 0x0, 0x0)"},
                )
            yield "EventLog", 6005, {}
        case "signed-in":
            yield "Logon", 7001, {}
        case "stop":
            yield "EventLog", 6006, {}
            yield "Kernel-General", 13, {}
        case "installed" if entry.kind == "driver":
            yield "UserPnp", 20001, {"DriverName": entry.name}
        case "installed" if entry.kind == "update":
            yield "UpdateClient", 19, {"updateTitle": entry.name}
        case "installed":
            yield "Installer", 1033, {"param1": entry.name}
        case "plugged":
            yield "Kernel-PnP", 410, {"DeviceInstanceId": entry.name}
        case _:
            yield "Time-Service", 37, {"param1": "time.skerrivane.example"}


def _row(at: float, by: str, number: int, values: dict[str, str], record: int) -> str:
    time = datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    data = "".join(
        f'<Data Name="{escape(name)}">{escape(value)}</Data>' for name, value in values.items()
    )
    return (
        f'<Event><System><Provider Name="{_MAKER}{by}"/><EventID>{number}</EventID><TimeCreated'
        f' SystemTime="{time}"/>'
        f"<EventRecordID>{record}</EventRecordID></System><EventData>{data}</EventData></Event>"
    )


def as_journal(story: History) -> bytes:
    """Entries of a journal, a JSON object a line."""
    rows: list[str] = []
    boot = 0
    for told in story.entries:
        boot += told.what == "start"
        for by, words in _lines(told):
            entry = {
                "__REALTIME_TIMESTAMP": str(int(told.at * 1e6)),
                "_BOOT_ID": f"{boot:032x}",
                "MESSAGE": words,
                "SYSLOG_IDENTIFIER": by,
                "_TRANSPORT": "kernel" if by == "kernel" else "syslog",
            }
            rows.append(json.dumps(entry))
    return ("\n".join(rows) + "\n").encode()


def as_text(story: History) -> bytes:
    """A text log with month, day and time, but no year."""
    rows: list[str] = []
    for entry in story.entries:
        time = datetime.fromtimestamp(entry.at, UTC)
        for by, words in _lines(entry):
            rows.append(f"{time:%b} {time.day:2d} {time:%H:%M:%S} {_HOST} {by}: {words}\n")
    return "".join(rows).encode()


def _lines(entry: Entry) -> Iterator[tuple[str, str]]:
    match entry.what:
        case "start":
            yield "kernel", "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP"
        case "signed-in":
            yield "systemd-logind", "New session 2 of user clerk."
        case "stop":
            yield "systemd", "Reached target Power-Off."
        case "crash" if entry.code:
            yield "kernel", f"Kernel panic - not syncing: fault {entry.code:#x}"
        case "installed" if entry.kind == "driver":
            yield (
                "kernel",
                f"{entry.name.removesuffix('.sys')}: loading out-of-tree module taints kernel.",
            )
        case "installed" if entry.kind == "update":
            yield "dpkg", f"upgrade {entry.name.lower().replace(' ', '-')}:amd64 1.0 1.1"
        case "installed":
            yield "dpkg", f"install {entry.name.lower().replace(' ', '-')}:amd64 <none> 1.0"
        case "plugged":
            yield (
                "kernel",
                "usb 1-4: New USB device found, idVendor=0451, idProduct=2046, bcdDevice= 1.00",
            )
        case "sign-of-life":
            yield "till[412]", "ticket sold, no error"


_CORE = 0xFFFFF800_00000000
"""Where drivers of 64 bits are loaded."""


def slip_desk_records() -> dict[str, bytes]:
    """What was brought along from the desk at the slip: events, the newest small dump, a list of
    restore points.
    """
    story = history("driver", 16)
    crash = next(entry for entry in reversed(story.entries) if entry.what == "crash" and entry.code)
    start = next(
        entry for entry in reversed(story.entries) if entry.what == "start" and entry.at < crash.at
    )
    inside = _CORE + 0x3001234
    drivers = [
        ("kernel.exe", _CORE, 0x800000),
        ("layer.dll", _CORE + 0x900000, 0x80000),
        ("slipprint.sys", _CORE + 0x2000000, 0x20000),
        (story.guilty, _CORE + 0x3000000, 0x30000),
    ]
    dump = DumpDraft(
        64,
        crash.code,
        (0xC0000005, inside, 0, 0),
        drivers,
        (_CORE + 0x1000, inside - 0x200, _CORE + 0x2000100),
        (0xC0000005, inside),
        inside,
        at=crash.at,
        uptime=crash.at - start.at,
    )
    onset = story.onset or 0.0
    days = (("41", -16.0, "Before the seat plan"), ("44", -3.0, "Weekly"), ("47", 6.0, "Weekly"))
    points = [
        {
            "id": name,
            "at": datetime.fromtimestamp(onset + shift * 86_400, UTC).isoformat(),
            "says": says,
        }
        for name, shift, says in days
    ]
    return {
        "events.xml": as_xml(story),
        "last.dmp": dump.encode(),
        "restore-points.json": (
            json.dumps({"mending": "restore-points/1", "points": points}).encode()
        ),
    }
