"""The repair `root-name`: an entry or a mount table that names a volume which is not there, made to name the one meant.

A name is put in the place of a name, in the file's own blocks, so it must not be longer than the old one. Which volume
is meant has to be plain: the only one that holds a Linux system for a root; for a mount the only one of that kind that
nothing else names.
"""

from mending.boot import mount_table, volume_named
from mending.disk import Contents, Disk, Volume, contents_of
from mending.model import Finding, Patch, RefusedError
from mending.repair.in_place import patch_file, read_file
from mending.repair.proposal import Proposal, Request

REPAIR = "root-name"
_ANSWERS = ("root-missing", "mount-missing")
_KINDS = {"ext2": "ext", "ext3": "ext", "ext4": "ext", "vfat": "fat", "ntfs3": "ntfs", "ntfs-3g": "ntfs"}
"""What a mount table calls a file system, where we call it otherwise; `fat` stands for all three."""


def propose(request: Request) -> Proposal:
    """Patches of every place in the file where the wrong name stands.

    Raises:
        RefusedError: no such finding, or no telling which volume is meant, or no room for its name.
    """
    disk, findings = (
        request.disk,
        [one for one in request.trace.findings if one.id in _ANSWERS and REPAIR in one.repairs],
    )
    if not findings:
        raise RefusedError(
            "No entry and no mount table names a volume that is not there.", "There is nothing to write."
        )
    inside = [contents_of(disk.source, volume) for volume in disk.volumes if not volume.extended]
    patches: list[Patch] = []
    says = []
    for finding in findings:
        home, data, wrong = _place(disk, finding)
        meant = _root(inside) if finding.id == "root-missing" else _mount(inside, data, wrong, finding)
        right = _name_of(meant, wrong, data)
        path = finding.where.path or ""
        places = [at for at in range(len(data)) if data.startswith(wrong, at)]
        if len(right) < len(wrong) and any(data[at + len(wrong) :][:1].strip() for at in places):
            raise RefusedError(f"The shorter name does not fit where {path} puts it in quotes.", "Change it by hand.")
        changes = [(at, right.ljust(len(wrong))) for at in places]
        patches += patch_file(disk, home, path, changes, f"name of volume {meant.volume.number} in {path}")
        says.append(f"{path} on volume {home.number} names volume {meant.volume.number}: {right.decode()}.")
    return Proposal(REPAIR, " ".join(says), tuple(patches), tuple({one.id: None for one in findings}))


def _place(disk: Disk, finding: Finding) -> tuple[Volume, bytes, bytes]:
    """The volume and content of the file that the finding is about, and the wrong name in it."""
    path, line = finding.where.path or "", finding.where.line
    for volume in disk.volumes:
        data = read_file(disk, volume, path)
        rows = data.splitlines() if data is not None else []
        row = rows[line - 1] if line is not None and 0 < line <= len(rows) else b"\n".join(rows)
        wrong = volume_named(row.decode("utf-8", errors="replace"), finding.id == "root-missing")
        if data is not None and wrong:
            return volume, data, wrong.encode()
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")


def _root(inside: list[Contents]) -> Contents:
    found = [one for one in inside if any(system.family == "linux" for system in one.systems)]
    if len(found) != 1:
        count = "No volume" if not found else f"{len(found)} volumes"
        raise RefusedError(f"{count} hold a Linux system, so which root is meant cannot be told.", "Ask the user.")
    return found[0]


def _mount(inside: list[Contents], data: bytes, wrong: bytes, finding: Finding) -> Contents:
    rows = list(mount_table(data.decode("utf-8", errors="replace")))
    row = next((one for one in rows if one.name.value.encode() == wrong), None)
    if row is None:
        raise RefusedError(f"{finding.where.path} was not found again.", "Trace the disk once more.")
    taken = {one.name.value.lower() for one in rows}
    kind = _KINDS.get(row.filesystem, row.filesystem)
    free = [
        one for one in inside if one.volume.filesystem.startswith(kind) and not _names(one) & taken and not one.systems
    ]
    if len(free) != 1:
        count = "No volume" if not free else f"{len(free)} volumes"
        raise RefusedError(f"{count} could be meant for {row.point}, so nothing is written.", "Ask the user.")
    return free[0]


def _names(one: Contents) -> set[str]:
    names = (one.facts.identifier, one.facts.label, one.volume.partition, one.volume.name)
    return {name.lower() for name in names if name}


def _name_of(meant: Contents, wrong: bytes, data: bytes) -> bytes:
    """The name of the volume of the same kind as the wrong one, which the word in front of it tells."""
    before = data[: data.index(wrong)].rstrip(b"\"'").lower()
    kinds = {b"partuuid=": meant.volume.partition, b"partlabel=": meant.volume.name, b"label=": meant.facts.label}
    right = next((name for key, name in kinds.items() if before.endswith(key)), meant.facts.identifier).encode()
    if not right or len(right) > len(wrong):
        raise RefusedError(
            f"The name of volume {meant.volume.number} does not fit in the place of {wrong.decode(errors='replace')}.",
            "Change it by hand.",
        )
    return right
