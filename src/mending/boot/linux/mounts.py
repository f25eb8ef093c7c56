"""Names by which Linux finds volumes: on the kernel's command line and in fstab."""

import re
from collections.abc import Iterator

import msgspec

from mending.boot.chain import BootEnvironment, finding
from mending.disk.volume import mapped_name
from mending.model import FilesystemKind, Finding, FindingId, Severity, Where

_NAMED = {"uuid": "uuid", "label": "label", "partuuid": "partuuid", "partlabel": "partlabel"}
_BY = re.compile(r"/dev/disk/by-(uuid|label|partuuid|partlabel)/(.+)")
_PLAIN = re.compile(r"/dev/(?:[hsv]d[a-z]+\d*|xvd[a-z]\d*|nvme\d+n\d+(?:p\d+)?|mmcblk\d+(?:p\d+)?)")
_MAPPED = re.compile(r"/dev/(?:mapper/([^/]+)|(?!mapper|disk|md|input|fd)([^/]+)/([^/]+))")
_ARRAY = re.compile(r"/dev/md(?:/|_)?(.+)")
_NO_VOLUME = {
    "none",
    "tmpfs",
    "proc",
    "sysfs",
    "devpts",
    "devtmpfs",
    "overlay",
    "nfs",
    "nfs4",
    "cifs",
    "fuse",
    "9p",
}


_NOT_WAITED_FOR = {"nofail", "noauto", "_netdev", "x-systemd.automount", "x-systemd.wanted-by"}
"""Options with which the start goes on without the volume."""


class VolumeName(msgspec.Struct, frozen=True):
    """A volume by one of its names.

    Attributes:
        kind: `uuid label partuuid partlabel device mapped array other`; `device` is a plain device
            name, which may change from start to start; `array` is an array by its name; `mapped` is
            a logical or unlocked volume by its name below `/dev/mapper`.
    """

    kind: str
    value: str


class Mount(msgspec.Struct, frozen=True):
    """One row of an fstab. `line` counts from 1."""

    name: VolumeName
    point: str
    filesystem: str
    options: frozenset[str]
    line: int

    @property
    def required(self) -> bool:
        """Whether the start waits for it and ends in emergency mode without it."""
        words = {word.partition("=")[0] for word in self.options}
        return not words & _NOT_WAITED_FOR and self.filesystem != "swap"


def parse_name(text: str) -> VolumeName:
    """A name as it is written, quotes undone."""
    key, equals, value = text.strip().partition("=")
    value = value.strip("\"'")
    if equals and key.lower() in _NAMED:
        return VolumeName(_NAMED[key.lower()], value)
    match = _BY.fullmatch(text.strip())
    if match:
        return VolumeName(match.group(1), match.group(2).replace("\\x20", " "))
    match = _MAPPED.fullmatch(text.strip())
    if match:
        return VolumeName("mapped", match.group(1) or mapped_name(match.group(2), match.group(3)))
    match = _ARRAY.fullmatch(text.strip())
    if match:
        return VolumeName("array", match.group(1).rpartition(":")[2])
    return VolumeName("device" if _PLAIN.fullmatch(text.strip()) else "other", text.strip())


def mount_table(text: str) -> Iterator[Mount]:
    """The rows that name volumes. Source: the manual page fstab(5) of util-linux."""
    for number, row in enumerate(text.splitlines(), 1):
        fields = row.split("#", 1)[0].split() if not row.lstrip().startswith("#") else []
        if len(fields) < 3 or fields[2] in _NO_VOLUME or fields[2].startswith("fuse."):
            continue
        options = frozenset(fields[3].split(",")) if len(fields) > 3 else frozenset()
        point = fields[1].replace("\\040", " ")
        yield Mount(parse_name(fields[0].replace("\\040", " ")), point, fields[2], options, number)


def unlock_table(text: str) -> Iterator[Mount]:
    """The rows of a table of encrypted volumes; `point` is the name one gets. Source: crypttab(5)
    of systemd.
    """
    for number, row in enumerate(text.splitlines(), 1):
        fields = row.split("#", 1)[0].split()
        if len(fields) >= 2:
            chosen = frozenset(fields[3].split(",")) if len(fields) > 3 else frozenset()
            yield Mount(parse_name(fields[1]), fields[0], "luks", chosen, number)


def option(command_line: str, name: str) -> str | None:
    """The last value of an option of the kernel's command line; None where it is not given."""
    rows = [word.partition("=") for word in command_line.split()]
    return next((value for key, _, value in reversed(rows) if key == name), None)


def options(command_line: str, name: str) -> list[str]:
    """Every value of an option that may be given more than once."""
    rows = [word.partition("=") for word in command_line.split()]
    return [value for key, _, value in rows if key == name and value]


def volume_named(row: str, on_command_line: bool) -> str:
    """The bare name of the volume in a line: of `root=` in a menu, or of the first field in an
    fstab.
    """
    if not on_command_line:
        fields = row.split()
        return parse_name(fields[0]).value if fields else ""
    words = [word for word in row.split() if word.startswith("root=")]
    return parse_name(words[-1].removeprefix("root=")).value if words else ""


# What the kernel's command line asks for beside the root: sleep image, unlocking, volume groups,
# another goal.
#
# Sources: `Documentation/admin-guide/kernel-parameters.txt` of Linux 6.1 (`resume`, `single`); the
# manual pages dracut.cmdline(7) (`rd.luks.*`, `rd.lvm.*`), systemd-cryptsetup-generator(8) and
# kernel-command-line(7) of systemd 252.


_UNLOCK = ("rd.luks.uuid", "luks.uuid", "rd.luks.name", "luks.name")
_DIVERTING = {"emergency", "rescue", "single", "s", "S", "1", "-b", "rd.break", "break"}
_SHELLS = {"sh", "bash", "dash", "ash", "zsh", "busybox"}
BARE_TARGETS = frozenset({"emergency.target", "rescue.target"})
"""Targets of systemd that end at an emergency shell."""


def command_line_findings(
    environment: BootEnvironment, command_line: str, where: Where
) -> list[Finding]:
    """Everything but the root that the command line names and that is not there."""
    if not environment.knows_names:
        return []
    return [
        *_resume(environment, command_line, where),
        *_unlock(environment, command_line, where),
        *_groups(environment, command_line, where),
    ]


def unlocked_names(environment: BootEnvironment, command_line: str) -> set[str]:
    """Names below `/dev/mapper` of encrypted volumes that are on this disk and would be
    unlocked.
    """
    found = set()
    for key in _UNLOCK:
        for value in options(command_line, key):
            identifier, _, name = value.partition("=")
            if _encrypted(environment, identifier):
                found.add(name or f"luks-{_bare(identifier)}")
    return found


def _bare(identifier: str) -> str:
    return identifier.lower().removeprefix("luks-")


def _encrypted(environment: BootEnvironment, identifier: str) -> bool:
    wanted = _bare(identifier)
    return any(
        volume.filesystem == FilesystemKind.LUKS
        and environment.contents(volume).info.identifier.lower().startswith(wanted)
        for volume in environment.volumes
    )


def _resume(environment: BootEnvironment, command_line: str, where: Where) -> list[Finding]:
    given = option(command_line, "resume")
    name = parse_name(given or "")
    if (
        not given
        or name.kind in {"other", "device", "mapped"}
        or environment.named(name.kind, name.value)
    ):
        return []
    says = (
        f"resume={given} is the name of no volume on this disk; the start waits for it, then"
        " goes on."
    )
    return [finding(FindingId.RESUME_MISSING, Severity.WARNING, says, where)]


def _unlock(environment: BootEnvironment, command_line: str, where: Where) -> list[Finding]:
    return [
        finding(
            FindingId.UNLOCK_MISSING,
            Severity.WARNING,
            f"{key}={value} names an encrypted volume that is not on this disk.",
            where,
        )
        for key in _UNLOCK
        for value in options(command_line, key)
        if not _encrypted(environment, value.partition("=")[0])
    ]


def _groups(environment: BootEnvironment, command_line: str, where: Where) -> list[Finding]:
    """Groups that are asked for; where a volume is still locked, they may lie inside it."""
    if any(volume.encrypted for volume in environment.volumes):
        return []
    inside = [
        environment.contents(volume).info
        for volume in environment.volumes
        if volume.filesystem == FilesystemKind.LVM
    ]
    wanted = [("rd.lvm.vg", option, option) for option in options(command_line, "rd.lvm.vg")]
    wanted += [
        ("rd.lvm.lv", option, parse_name(f"/dev/{option}").value)
        for option in options(command_line, "rd.lvm.lv")
    ]
    there = {name for info in inside for name in (info.group, *info.logical)}
    return [
        finding(
            FindingId.GROUP_MISSING,
            Severity.WARNING,
            f"{key}={given} names what no volume group on this disk holds.",
            where,
        )
        for key, given, name in wanted
        if name not in there
    ]


def diversion(command_line: str) -> str:
    """The word of the command line that ends the start at an emergency shell; empty where there is
    none.
    """
    pairs = [
        (key, value) for key, _, value in (word.partition("=") for word in command_line.split())
    ]
    leading = (
        f"{key}={value}" if value else key
        for key, value in pairs
        if (not value and key in _DIVERTING)
        or (key == "systemd.unit" and value in BARE_TARGETS)
        or (key in {"init", "rdinit"} and value.rpartition("/")[2] in _SHELLS)
    )
    return next(leading, "")
