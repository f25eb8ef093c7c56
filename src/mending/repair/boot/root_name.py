"""The repair `root-name`: an entry or an fstab that names a volume which is not there, made to name
the one meant.

A name is put in the place of a name in the file's own blocks where it is not longer than the old
one; else the file is written anew by the volume's driver. Which volume is meant has to be plain:
the only one that holds a Linux system for a root; for a mount the only one of that kind that
nothing else names.
"""

import re
from collections.abc import Sequence

from mending.boot.linux import mount_table, volume_named
from mending.disk.layout import Disk
from mending.disk.system import Contents
from mending.disk.volume import DEFAULT_TOP, Volume
from mending.formats.executable import pe, signatures
from mending.model import (
    Change,
    FilesystemKind,
    Finding,
    FindingId,
    RefusedError,
    RepairId,
    Window,
)
from mending.model.limits import FILE_BYTES, LOADED_BYTES
from mending.repair.base import Proposal, Request
from mending.repair.files import patch_file, put_files, read_file

REPAIR = RepairId.ROOT_NAME
_ANSWERS = (FindingId.ROOT_MISSING, FindingId.ROOT_SUBVOLUME_MISSING, FindingId.MOUNT_MISSING)
_ON_COMMAND_LINE = {FindingId.ROOT_MISSING, FindingId.ROOT_SUBVOLUME_MISSING}
_WORDS = b".cmdline"
_SUBVOLUME = re.compile(rb"\bsubvol=[^\s,]+")
_KINDS = {
    "ext2": FilesystemKind.EXT,
    "ext3": FilesystemKind.EXT,
    "ext4": FilesystemKind.EXT,
    "vfat": "fat",
    "ntfs3": FilesystemKind.NTFS,
    "ntfs-3g": FilesystemKind.NTFS,
}
"""What an fstab calls a file system, where we call it otherwise; `fat` stands for all three."""


def propose(request: Request) -> Proposal:
    """Patches of every place in the file where the wrong name stands.

    Raises:
        RefusedError: no such finding, or no telling which volume is meant, or no room for its name.
    """
    disk = request.disk
    findings = [fault for fault in request.calling_for(REPAIR) if fault.id in _ANSWERS]
    if not findings:
        raise RefusedError(
            "No entry and no fstab names a volume that is not there.", "There is nothing to write."
        )
    environment = request.environment
    inside = [environment.contents(each) for each in environment.volumes if not each.extended]
    changes: list[Change] = []
    says = []
    for finding in findings:
        if (finding.where.path or "").lower().endswith(".efi"):
            return _in_unified(request, finding, _root(inside))
        home, data, wrong = _place(disk, environment.volumes, finding)
        if finding.id == FindingId.ROOT_SUBVOLUME_MISSING:
            return _subvolume(request, home, data, finding, _root(inside))
        if finding.id == FindingId.ROOT_MISSING:
            meant = _root(inside)
        else:
            meant = _mount(inside, data, wrong, finding)
        right = _name_of(meant, wrong, data)
        path = finding.where.path or ""
        says_of = f"name of volume {meant.volume.number} in {path}"
        word = re.compile(rb"(?<![\w-])" + re.escape(wrong) + rb"(?![\w-])")
        places = [match.start() for match in word.finditer(data)]
        quoted = any(data[at + len(wrong) :][:1].strip() for at in places)
        told = (
            f"{path} on volume {home.number} names volume {meant.volume.number}: {right.decode()}."
        )
        if len(right) > len(wrong) or (len(right) < len(wrong) and quoted):
            if len(data) >= FILE_BYTES:
                raise RefusedError(f"{path} is too long to be written anew.", "Change it by hand.")
            text = word.sub(right.replace(b"\\", b"\\\\"), data)
            anew = put_files(request, home, {path: text}, says_of)
            # one file at a time: what the driver writes for another one would lie over it
            return Proposal(repair=REPAIR, says=told, changes=tuple(anew), answers=(finding,))
        rows = [(at, right.ljust(len(wrong))) for at in places]
        changes += patch_file(disk, home, path, rows, says_of)
        says.append(told)
    return Proposal(
        repair=REPAIR, says=" ".join(says), changes=tuple(changes), answers=tuple(findings)
    )


def _in_unified(request: Request, finding: Finding, meant: Contents) -> Proposal:
    """The name in the command line of a unified kernel that nobody signed: in its own section,
    filled up with blanks.
    """
    path, environment = str(finding.where.path), request.environment
    for volume in environment.volumes:
        if volume.extended or not volume.kind.is_fat or environment.find(volume, path) is None:
            continue
        data = environment.read(volume, path, LOADED_BYTES)
        image = pe.read(Window(data)).record
        row = next((each for each in image.sections if each.name.rstrip(b"\0") == _WORDS), None)
        left = signatures.left_out(data)
        if row is None or left is None or left.signatures[1]:
            raise RefusedError(
                f"{path} is signed, or holds no command line of its own.",
                "Have it made anew by the system that it is for.",
            )
        line = data[row.file_offset : row.file_offset + row.file_size]
        wrong = volume_named(line.split(b"\0")[0].decode("utf-8", "replace"), True).encode()
        if not wrong or wrong not in line:
            break
        text = line.rstrip(b"\0").replace(wrong, _name_of(meant, wrong, line))
        if len(text) > len(line):
            raise RefusedError(f"The right name does not fit into {path}.", "Have it made anew.")
        says = f"name of volume {meant.volume.number} in {path}"
        rows = [(row.file_offset, text.ljust(len(line.rstrip(b"\0"))).ljust(len(line), b"\0"))]
        changes = patch_file(request.disk, volume, path, rows, says)
        told = f"{path} on volume {volume.number} names volume {meant.volume.number}."
        return Proposal(repair=REPAIR, says=told, changes=tuple(changes), answers=(finding,))
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")


def _subvolume(
    request: Request, home: Volume, data: bytes, finding: Finding, meant: Contents
) -> Proposal:
    """The name of a subvolume, where one alone holds a system."""
    if not meant.top or meant.top == DEFAULT_TOP:
        raise RefusedError(
            f"The system on volume {meant.volume.number} is in no subvolume.", "Change it by hand."
        )
    path, right = finding.where.path or "", f"subvol={meant.top}".encode()
    rows = data.split(b"\n")
    numbers = [finding.where.line - 1] if finding.where.line else list(range(len(rows)))
    for number in numbers:
        if number < len(rows) and b"rootflags=" in rows[number]:
            rows[number] = _SUBVOLUME.sub(right, rows[number])
    text = b"\n".join(rows)
    if text == data:
        raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")
    changes = put_files(request, home, {path: text}, f"name of the subvolume in {path}")
    says = (
        f"{path} on volume {home.number} names the subvolume {meant.top}, which holds the system."
    )
    return Proposal(repair=REPAIR, says=says, changes=tuple(changes), answers=(finding,))


def _place(disk: Disk, volumes: Sequence[Volume], finding: Finding) -> tuple[Volume, bytes, bytes]:
    """The volume and content of the file that the finding is about, and the wrong name in it."""
    path, line = finding.where.path or "", finding.where.line
    for volume in volumes:
        if volume.extended:
            continue
        data = read_file(disk, volume, path)
        rows = data.splitlines() if data is not None else []
        row = rows[line - 1] if line is not None and 0 < line <= len(rows) else b"\n".join(rows)
        wrong = volume_named(row.decode("utf-8", errors="replace"), finding.id in _ON_COMMAND_LINE)
        if data is not None and wrong:
            return volume, data, wrong.encode()
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")


def _root(inside: list[Contents]) -> Contents:
    found = [
        contents
        for contents in inside
        if any(system.family == "linux" for system in contents.systems)
    ]
    if len(found) != 1:
        count = "No volume" if not found else f"{len(found)} volumes"
        raise RefusedError(
            f"{count} hold a Linux system, so which root is meant cannot be told.", "Ask the user."
        )
    return found[0]


def _mount(inside: list[Contents], data: bytes, wrong: bytes, finding: Finding) -> Contents:
    rows = list(mount_table(data.decode("utf-8", errors="replace")))
    row = next((mount for mount in rows if mount.name.value.encode() == wrong), None)
    if row is None:
        raise RefusedError(
            f"{finding.where.path} was not found again.", "Trace the disk once more."
        )
    taken = {mount.name.value.lower() for mount in rows}
    kind = _KINDS.get(row.filesystem, row.filesystem)
    free = [
        contents
        for contents in inside
        if contents.volume.filesystem.startswith(kind)
        and not _names(contents) & taken
        and not contents.systems
    ]
    if len(free) != 1:
        count = "No volume" if not free else f"{len(free)} volumes"
        raise RefusedError(
            f"{count} could be meant for {row.point}, so nothing is written.", "Ask the user."
        )
    return free[0]


def _names(contents: Contents) -> set[str]:
    names = (
        contents.info.identifier,
        contents.info.label,
        contents.volume.partuuid,
        contents.volume.partlabel,
    )
    return {name.lower() for name in names if name}


def _name_of(meant: Contents, wrong: bytes, data: bytes) -> bytes:
    """The name of the volume of the same kind as the wrong one, which the word in front of it
    tells.
    """
    if wrong not in data:
        raise RefusedError(
            f"{wrong.decode(errors='replace')} is not written so.", "Change it by hand."
        )
    before = data[: data.index(wrong)].rstrip(b"\"'").lower()
    kinds = {
        b"/dev/mapper/": meant.volume.mapped,
        b"partuuid=": meant.volume.partuuid,
        b"partlabel=": meant.volume.partlabel,
        b"label=": meant.info.label,
    }
    right = next(
        (name for key, name in kinds.items() if before.endswith(key)), meant.info.identifier
    ).encode()
    if not right:
        raise RefusedError(
            f"Volume {meant.volume.number} has no name of the kind of"
            f" {wrong.decode(errors='replace')}.",
            "Change it by hand.",
        )
    return right
