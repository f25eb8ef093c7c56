"""Units of systemd that would restart the PC, or themselves, for ever.

A unit may ask for a restart of the whole PC where it fails (`FailureAction=` and its relatives).
If its program is not there, it fails at every start, so the PC never gets to its sign-in. One that
restarts itself without a limit keeps the PC busy, and no more.

Only units that something starts are looked at: those that a target on the way to the sign-in wants
or requires by a link. One with conditions may be skipped, which the disk does not tell.

Sources: the manual pages systemd.unit(5) ("FailureAction=", "StartLimitIntervalSec=", "Unit File
Load Path"), systemd.service(5) ("Restart=", "ExecStart=").
"""

import re
from collections.abc import Iterator

import msgspec

from mending.boot.chain import BootEnvironment, finding
from mending.disk.files import FileFound
from mending.disk.volume import Volume
from mending.model import Finding, FindingId, RepairId, Severity, Where

UNIT_FOLDERS = (
    "etc/systemd/system",
    "run/systemd/system",
    "usr/local/lib/systemd/system",
    "usr/lib/systemd/system",
    "lib/systemd/system",
)
"""Where units are looked for, first found first taken."""
_WANTING = re.compile(r".+\.target\.(?:wants|requires)")
_NOT_ON_THE_WAY = re.compile(
    r"(?:reboot|poweroff|halt|kexec|shutdown|rescue|emergency|suspend|hibernate|sleep|hybrid-sleep"
    r"|initrd.*|exit|final|umount|system-update.*)\.target\."
)
_ENDING = re.compile(r"(?:reboot|poweroff|halt|kexec|exit|soft-reboot)(?:-force|-immediate)?")
_ACTIONS = ("FailureAction", "StartLimitAction")
_ENDING_TARGETS = {"reboot.target", "poweroff.target", "halt.target", "kexec.target"}
_MOST_UNITS = 1024
_EXECUTED = ("ExecCondition", "ExecStartPre", "ExecStart")
_FOR_EVER = {"0", "0s", "infinity"}


class Unit(msgspec.Struct, frozen=True):
    """A unit file with what was added to it. `settings` are rows of key, value and the line."""

    name: str
    path: str
    settings: tuple[tuple[str, str, int], ...]

    def last(self, *keys: str) -> tuple[str, int]:
        """The value in force of one of these keys, and its line; empty where none is set."""
        rows = [(value, line) for key, value, line in self.settings if key in keys]
        return rows[-1] if rows else ("", 0)

    @property
    def has_conditions(self) -> bool:
        """Whether it may be skipped."""
        return any(key.startswith(("Condition", "Assert")) for key, _, _ in self.settings)

    def programs(self) -> list[str]:
        """Programs without which it fails; those that may fail are left out."""
        found: list[str] = []
        for key, value, _ in self.settings:
            if key in _EXECUTED:
                found = found if value else []
                word = value.split()[0] if value else ""
                plain = word.lstrip("@:+!|")
                if plain.startswith("/") and "%" not in plain and "$" not in plain:
                    found.append(plain)
        return found


class UnitFindings:
    """The findings on the units of one root."""

    def __init__(self, environment: BootEnvironment, volume: Volume) -> None:
        self._environment, self._volume = environment, volume

    def all(self) -> list[Finding]:
        """Units whose program is gone and that take the PC with them. Raises OutOfReachError."""
        found = []
        for name in self._started():
            unit = self._read(name)
            if unit is None or unit.has_conditions:
                continue
            lost = next((path for path in unit.programs() if self._find(path) is None), None)
            if lost is not None:
                found += self._of(unit, lost)
        return found

    def _of(self, unit: Unit, lost: str) -> list[Finding]:
        action, line = unit.last(*_ACTIONS)
        behind, behind_line = unit.last("OnFailure")
        ends = set(behind.split()) & _ENDING_TARGETS
        if _ENDING.fullmatch(action) or ends:
            what = action or f"OnFailure={' '.join(sorted(ends))}"
            says = (
                f"{unit.name} starts {lost}, which is not there, and asks for {what} when it"
                " fails: the PC ends every start there."
            )
            where = Where(path=unit.path, line=line or behind_line)
            fatal = FindingId.UNIT_ENDS_START
            return [finding(fatal, Severity.FATAL, says, where, (RepairId.UNIT_OFF,))]
        restart, line = unit.last("Restart")
        limit, _ = unit.last("StartLimitIntervalSec", "StartLimitInterval")
        if restart in {"always", "on-failure"} and limit in _FOR_EVER:
            says = f"{unit.name} starts {lost}, which is not there, and tries again for ever."
            where = Where(path=unit.path, line=line)
            return [finding(FindingId.UNIT_RESTARTS, Severity.WARNING, says, where)]
        return []

    def _started(self) -> list[str]:
        """Names of the units that targets want."""
        names: dict[str, None] = {}
        for folder in UNIT_FOLDERS:
            for each in self._inside(folder):
                name = each.path.rpartition("/")[2]
                if _WANTING.fullmatch(name) and not _NOT_ON_THE_WAY.match(name):
                    rows = self._inside(each.path)
                    names |= dict.fromkeys(row.path.rpartition("/")[2] for row in rows)
        return [name for name in names if name.endswith(".service")][:_MOST_UNITS]

    def _read(self, name: str) -> Unit | None:
        """A unit with its drop-ins; None where it is not there, or turned off."""
        plain = re.sub(r"@[^.]*\.", "@.", name)
        for folder in UNIT_FOLDERS:
            for each in (name, plain):
                found = self._find(f"{folder}/{each}")
                if found is None:
                    if self._environment.is_link(self._volume, f"{folder}/{each}"):
                        return None  # a link to nothing: it is off
                    continue
                settings = [*self._settings(found.path)]
                for home in UNIT_FOLDERS:
                    for more in self._inside(f"{home}/{name}.d"):
                        settings += self._settings(more.path) if more.path.endswith(".conf") else ()
                return Unit(name, found.path, tuple(settings))
        return None

    def _settings(self, path: str) -> Iterator[tuple[str, str, int]]:
        text = self._environment.read_text(self._volume, path)
        for number, row in enumerate(text.splitlines(), 1):
            key, equals, value = row.partition("=")
            if equals and not row.lstrip().startswith(("#", ";")):
                yield key.strip(), value.strip(), number

    def _inside(self, folder: str) -> list[FileFound]:
        inside = self._environment.listing(self._volume, folder)
        return sorted(inside, key=lambda each: each.path)

    def _find(self, path: str) -> FileFound | None:
        return self._environment.find(self._volume, path)
