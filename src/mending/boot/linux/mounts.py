"""Names by which Linux finds volumes: on the kernel's command line and in fstab."""

import re
from collections.abc import Iterator

import msgspec

from mending.disk.volume import mapped_name

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
