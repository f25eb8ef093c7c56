"""The drivers and services of a control set, and the order in which the loader takes those that
come with the kernel.

Source: published documentation of service settings (`Start`, `Type`, `ErrorControl`, `Group`,
`Tag`, `ImagePath`) and of `ServiceGroupOrder` and `GroupOrderList`.
"""

from collections.abc import Mapping

import msgspec

from mending.boot.nt.start import Libraries, NtSettings, Program, nt_finding, read_program
from mending.disk.hives import Key
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, Phase, Severity, Where

BOOT, SYSTEM, AUTOMATIC, DISABLED = 0, 1, 2, 4
"""When a driver or service is started: with the kernel, by the kernel, by the session, never."""
DRIVER_TYPES = {1, 2, 8}
_CRITICAL = 3
_MOST_TAGS = 4096


class Driver(msgspec.Struct, frozen=True):
    """A driver or service of a control set.

    Attributes:
        written: its image as the settings name it. path: the same on the system's volume.
        start: 0 with the kernel, 1 by the kernel, 2 by the session, 3 on demand, 4 never.
        error: 3: without it the start ends.
    """

    name: str
    written: str
    path: str
    type: int
    start: int
    error: int
    group: str
    tag: int

    @property
    def is_driver(self) -> bool:
        """Whether it runs in the kernel and is no service."""
        return self.type in DRIVER_TYPES

    @property
    def is_critical(self) -> bool:
        """Whether the start ends where it cannot be loaded."""
        return self.error == _CRITICAL


def driver_fault(
    settings: NtSettings, driver: Driver, libraries: Libraries, phase: Phase
) -> Finding | None:
    """What keeps a driver from being loaded; None where nothing does."""
    program = read_program(settings.start, driver.path)
    severity = Severity.FATAL if driver.is_critical and driver.start == BOOT else Severity.WARNING
    ends = "the start ends without it" if driver.is_critical else "the start goes on without it"
    name = f"The driver {driver.name}"
    if program is None:
        says = f"{name} has no image {driver.path}; {ends}."
        where = Where(path=driver.path)
        return nt_finding(FindingId.BOOT_DRIVER_MISSING, severity, says, where, phase=phase)
    if program.unread:
        says = f"{name} was not checked: {program.unread}."
        unread = FindingId.FILES_NOT_CHECKED
        return nt_finding(unread, Severity.NOTE, says, program.where, phase=phase)
    kind, why = _what_is_wrong(program, libraries)
    if not why:
        return None
    says = f"{name} cannot be loaded from {program.path}: {why}; {ends}."
    return nt_finding(kind, severity, says, program.where, phase=phase)


def _what_is_wrong(program: Program, libraries: Libraries) -> tuple[FindingId, str]:
    if program.why:
        return FindingId.BOOT_DRIVER_DAMAGED, program.why
    return FindingId.BOOT_DRIVER_UNLINKED, libraries.lacking(program)


def drivers_of(settings: NtSettings) -> dict[str, Driver]:
    """All drivers and services by lower-case name.

    Raises:
        DamagedHiveError: a key on the way is damaged.
    """
    services = settings.control_set.child("Services")
    found = {}
    for key in services.children() if services is not None else ():
        start = key.number("Start")
        if start is not None:
            driver = _driver(settings, key, start)
            found[key.name.lower()] = driver
    return found


def boot_drivers(settings: NtSettings, known: Mapping[str, Driver]) -> list[Driver]:
    """The boot-start drivers in the order in which they are loaded: by group as the list of groups
    has them, in a group by tag as the group's list has them; those of no listed group last.

    Raises:
        DamagedHiveError: a key on the way is damaged.
    """
    control = settings.control_set.child("Control")
    order = control.child("ServiceGroupOrder") if control is not None else None
    tags = control.child("GroupOrderList") if control is not None else None
    groups = [name.lower() for name in (order.texts("List") or () if order is not None else ())]
    ranks = {name: rank for rank, name in reversed(list(enumerate(groups)))}
    wanted = [
        driver for driver in known.values() if driver.start == BOOT and driver.type in DRIVER_TYPES
    ]
    places = {group: _tag_ranks(tags, group) for group in {driver.group for driver in wanted}}

    def rank(driver: Driver) -> tuple[int, int]:
        inside = places[driver.group]
        return ranks.get(driver.group.lower(), len(ranks)), inside.get(driver.tag, len(inside))

    return sorted(wanted, key=rank)


def _tag_ranks(tags: Key | None, group: str) -> dict[int, int]:
    raw = (tags.data(group) if tags is not None and group else None) or b""
    count = min(int.from_bytes(raw[:4], "little"), len(raw) // 4 - 1, _MOST_TAGS)
    numbers = [int.from_bytes(raw[4 * at : 4 * at + 4], "little") for at in range(1, count + 1)]
    return {number: rank for rank, number in reversed(list(enumerate(numbers)))}


def _driver(settings: NtSettings, key: Key, start: int) -> Driver:
    written = key.text("ImagePath") or ""
    return Driver(
        name=key.name,
        written=written,
        path=image_path(settings, written, key.name),
        type=key.number("Type") or 0,
        start=start,
        error=key.number("ErrorControl") or 0,
        group=key.text("Group") or "",
        tag=key.number("Tag") or 0,
    )


def image_path(settings: NtSettings, written: str, name: str) -> str:
    """The path on the system's volume that the image path of a driver means; without one it is the
    file of the driver's name in the folder of drivers.
    """
    start = settings.start
    if not written.strip():
        return start.path(f"{nt_names().drivers.folder}/{name}.sys")
    path, is_whole = start.program(written)
    return path if is_whole else start.path(path)
