"""What the kernel's command line asks for beside the root: sleep image, unlocking, volume groups, another goal.

Sources: `Documentation/admin-guide/kernel-parameters.txt` of Linux 6.1 (`resume`, `single`); the manual pages
dracut.cmdline(7) (`rd.luks.*`, `rd.lvm.*`), systemd-cryptsetup-generator(8) and kernel-command-line(7) of systemd 252.
"""

from mending.boot.grounds import Grounds
from mending.boot.linux.mounts import option, options, parse_name
from mending.boot.rungs import finding
from mending.model import Finding, Phase, Severity, Where

_UNLOCK = ("rd.luks.uuid", "luks.uuid", "rd.luks.name", "luks.name")
_DIVERTING = {"emergency", "rescue", "single", "s", "S", "1", "-b", "rd.break", "break"}
_SHELLS = {"sh", "bash", "dash", "ash", "zsh", "busybox"}
BARE_GOALS = frozenset({"emergency.target", "rescue.target"})
"""Goals of systemd that end at a bare prompt."""


def word_findings(grounds: Grounds, words: str, where: Where) -> list[Finding]:
    """Everything but the root that the command line names and that is not there."""
    if not grounds.knows_names:
        return []
    return [*_resume(grounds, words, where), *_unlock(grounds, words, where), *_groups(grounds, words, where)]


def unlocked_names(grounds: Grounds, words: str) -> set[str]:
    """Names below `/dev/mapper` of encrypted volumes that are on this disk and would be unlocked."""
    found = set()
    for key in _UNLOCK:
        for value in options(words, key):
            identifier, _, name = value.partition("=")
            if _encrypted(grounds, identifier):
                found.add(name or f"luks-{_bare(identifier)}")
    return found


def _bare(identifier: str) -> str:
    return identifier.lower().removeprefix("luks-")


def _encrypted(grounds: Grounds, identifier: str) -> bool:
    wanted = _bare(identifier)
    return any(
        one.filesystem == "luks" and grounds.contents(one).facts.identifier.lower().startswith(wanted)
        for one in grounds.volumes
    )


def _resume(grounds: Grounds, words: str, where: Where) -> list[Finding]:
    given = option(words, "resume")
    name = parse_name(given or "")
    if not given or name.kind in {"other", "device", "mapped"} or grounds.named(name.kind, name.value):
        return []
    says = f"resume={given} is the name of no volume on this disk; the start waits for it, then goes on."
    return [finding("resume-missing", Phase.KERNEL, Severity.WARNING, says, where)]


def _unlock(grounds: Grounds, words: str, where: Where) -> list[Finding]:
    return [
        finding(
            "unlock-missing", Phase.KERNEL, Severity.WARNING,
            f"{key}={value} names an encrypted volume that is not on this disk.", where,
        )
        for key in _UNLOCK
        for value in options(words, key)
        if not _encrypted(grounds, value.partition("=")[0])
    ]  # fmt: skip


def _groups(grounds: Grounds, words: str, where: Where) -> list[Finding]:
    """Groups that are asked for; where a volume is still locked, they may lie inside it."""
    if any(one.encrypted for one in grounds.volumes):
        return []
    inside = [grounds.contents(one).facts for one in grounds.volumes if one.filesystem == "lvm"]
    wanted = [("rd.lvm.vg", one, one) for one in options(words, "rd.lvm.vg")]
    wanted += [("rd.lvm.lv", one, parse_name(f"/dev/{one}").value) for one in options(words, "rd.lvm.lv")]
    there = {name for one in inside for name in (one.group, *one.logical)}
    return [
        finding(
            "group-missing", Phase.KERNEL, Severity.WARNING,
            f"{key}={given} names what no volume group on this disk holds.", where,
        )
        for key, given, name in wanted
        if name not in there
    ]  # fmt: skip


def diversion(words: str) -> str:
    """The word of the command line that ends the start at a bare prompt; empty where there is none."""
    pairs = [(key, value) for key, _, value in (word.partition("=") for word in words.split())]
    leading = (
        f"{key}={value}" if value else key
        for key, value in pairs
        if (not value and key in _DIVERTING)
        or (key == "systemd.unit" and value in BARE_GOALS)
        or (key in {"init", "rdinit"} and value.rpartition("/")[2] in _SHELLS)
    )
    return next(leading, "")
