"""What the kernel's command line asks for beside the root: sleep image, unlocking, volume groups,
another goal.

Sources: `Documentation/admin-guide/kernel-parameters.txt` of Linux 6.1 (`resume`, `single`); the
manual pages dracut.cmdline(7) (`rd.luks.*`, `rd.lvm.*`), systemd-cryptsetup-generator(8) and
kernel-command-line(7) of systemd 252.
"""

from mending.boot.chain import BootEnvironment, finding
from mending.boot.linux.mounts import option, options, parse_name
from mending.model import FilesystemKind, Finding, FindingId, Severity, Where

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
