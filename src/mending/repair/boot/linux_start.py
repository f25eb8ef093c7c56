"""The repair `root-name`: an entry or an fstab that names a volume which is not there, made to name
the one meant.

A name is put in the place of a name in the file's own blocks where it is not longer than the old
one; else the file is written anew by the volume's driver. Which volume is meant has to be plain:
the only one that holds a Linux system for a root; for a mount the only one of that kind that
nothing else names.
"""

import re
from collections.abc import Sequence

from mending.boot.chain import OutOfReachError, Trace
from mending.boot.linux import (
    COPY_ENDING,
    KernelWithInitramfs,
    Part,
    diversion,
    kernels_beside,
    mount_table,
    read_accounts,
    volume_named,
)
from mending.boot.new_entry import is_plain, only_linux_system
from mending.disk.layout import Disk
from mending.disk.system import Contents
from mending.disk.volume import DEFAULT_TOP, Volume
from mending.formats import pe, signatures
from mending.model import (
    Change,
    FileAttributes,
    FilesystemKind,
    Finding,
    FindingId,
    RefusedError,
    RepairId,
    UsageError,
    Where,
    Window,
)
from mending.model.limits import FILE_BYTES, LOADED_BYTES
from mending.repair.base import Proposal, Request
from mending.repair.files import patch_file, put_files, read_file, read_whole

ROOT_NAME = RepairId.ROOT_NAME
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


def propose_root_name(request: Request) -> Proposal:
    """Patches of every place in the file where the wrong name stands.

    Raises:
        RefusedError: no such finding, or no telling which volume is meant, or no room for its name.
    """
    disk = request.disk
    findings = [fault for fault in request.calling_for(ROOT_NAME) if fault.id in _ANSWERS]
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
            return Proposal(repair=ROOT_NAME, says=told, changes=tuple(anew), answers=(finding,))
        rows = [(at, right.ljust(len(wrong))) for at in places]
        changes += patch_file(disk, home, path, rows, says_of)
        says.append(told)
    return Proposal(
        repair=ROOT_NAME, says=" ".join(says), changes=tuple(changes), answers=tuple(findings)
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
        return Proposal(repair=ROOT_NAME, says=told, changes=tuple(changes), answers=(finding,))
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
    return Proposal(repair=ROOT_NAME, says=says, changes=tuple(changes), answers=(finding,))


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


# The repair `entry-kernel`: a boot entry that asks for a kernel or an initramfs that is gone or
# damaged, made to name the sound ones that lie beside it.
#
# Only the two names change; the command line and everything else in the entry stay. Menus of GRUB
# and of SYSLINUX and entry files of systemd-boot write both in the same words (`linux`, `initrd`).


ENTRY_KERNEL = RepairId.ENTRY_KERNEL
_KERNEL = re.compile(rb"(\s*(?:linux\w*|kernel)\s+)(\S+)(.*)", re.DOTALL | re.IGNORECASE)
_INITRD = re.compile(rb"(\s*initrd\w*\s+)(.*\S)(\s*)", re.DOTALL | re.IGNORECASE)
_NEXT = re.compile(rb"\s*(?:\}|menuentry\b|label\b)", re.IGNORECASE)


def propose_entry_kernel(request: Request) -> Proposal:
    """Changes of the lines that name what is not sound.

    Raises:
        RefusedError: no such finding, no sound kernel beside, or names that are made up of
            variables.
    """
    findings = [fault for fault in request.calling_for(ENTRY_KERNEL) if fault.asked_by is not None]
    if not findings:
        raise RefusedError(
            "Every entry names a sound kernel with its initramfs.", "There is nothing to write."
        )
    place = findings[0].asked_by
    same = tuple(finding for finding in findings if finding.asked_by == place)
    home, data = _menu(request, place or Where())
    rows = data.split(b"\n")
    at, part = _kernel_row(request, rows, (place or Where()).line)
    kernel = _best(request, part, {finding.where.path or "" for finding in same})
    _name(rows, at, part, kernel)
    path = (place or Where()).path or ""
    text = b"\n".join(rows)
    if home.kind.is_journaled and len(text) < len(data):
        text = text.ljust(len(data), b"\n")  # a file that keeps its length keeps its blocks
    changes = put_files(request, home, {path: text}, f"names of kernel and initramfs in {path}")
    says = (
        f"{path} on volume {home.number} names {kernel.path} and {kernel.initrd} (kernel"
        f" {kernel.version})."
    )
    return Proposal(repair=ENTRY_KERNEL, says=says, changes=tuple(changes), answers=same)


def _menu(request: Request, place: Where) -> tuple[Volume, bytes]:
    """The volume and the content of the file in which the entry stands."""
    for volume in request.environment.volumes:
        try:
            found = None if volume.extended else request.environment.find(volume, place.path or "")
            if found is None or found.is_folder:
                continue
            data = read_whole(request.environment, volume, found)
        except OutOfReachError:
            continue
        rows = data.split(b"\n")
        line = rows[place.line - 1] if place.line and place.line <= len(rows) else b""
        if place.line is None or _KERNEL.fullmatch(line):
            return volume, data
    raise RefusedError(f"{place.path} was not found again.", "Trace the disk once more.")


def _kernel_row(request: Request, rows: list[bytes], line: int | None) -> tuple[int, Part]:
    """The row that names the kernel, and the file it means on the volume that has its folder."""
    at = line - 1 if line else next((n for n, row in enumerate(rows) if _KERNEL.fullmatch(row)), -1)
    match = _KERNEL.fullmatch(rows[at]) if 0 <= at < len(rows) else None
    name = match.group(2).decode("utf-8", errors="replace") if match else ""
    if not name.startswith("/") or not is_plain(name):
        raise RefusedError(
            "The entry does not write its kernel as a plain path.", "Edit it by hand."
        )
    homes = []
    for volume in request.environment.volumes:
        part = Part(volume, name)
        if not volume.extended and kernels_beside(request.environment, part):
            homes.append(part)
    if len(homes) != 1:
        count = "No volume" if not homes else f"{len(homes)} volumes"
        raise RefusedError(f"{count} have a sound kernel beside {name}.", "Edit the entry by hand.")
    return at, homes[0]


def _best(request: Request, part: Part, blamed: set[str]) -> KernelWithInitramfs:
    """The one that is named now, where it is sound and only its initramfs is not; else the newest
    for which the system has modules.
    """
    unfit = {path.strip("/") for path in blamed}
    usable = [
        kernel
        for kernel in kernels_beside(request.environment, part)
        if kernel.initrd
        and kernel.initrd.strip("/") not in unfit
        and all(is_plain(name) for name in (kernel.path, kernel.initrd))
        and _folder(kernel.initrd) == _folder(kernel.path)
    ]
    if not usable:
        raise RefusedError(
            "No sound kernel with its initramfs lies beside it.", "Restore one first."
        )
    same = [kernel for kernel in usable if kernel.path.strip("/") == part.path.strip("/")]
    known = [kernel for kernel in usable if _has_modules(request, kernel)]
    return (same or known or usable)[0]


def _has_modules(request: Request, kernel: KernelWithInitramfs) -> bool:
    folders = [f"usr/lib/modules/{kernel.version}", f"lib/modules/{kernel.version}"]
    for volume in request.environment.volumes:
        try:
            if not volume.extended and any(
                request.environment.find(volume, folder) for folder in folders
            ):
                return True
        except OutOfReachError:
            continue
    return False


def _folder(path: str) -> str:
    return path.strip("/").rpartition("/")[0]


def _name(rows: list[bytes], at: int, part: Part, kernel: KernelWithInitramfs) -> None:
    """Put both names into their rows; of several initramfs files the last is the system's own."""
    folder = part.path.rpartition("/")[0]
    names = [
        f"{folder}/{each.rpartition('/')[2]}".encode() for each in (kernel.path, kernel.initrd)
    ]
    match = _KERNEL.fullmatch(rows[at])
    if match is not None:
        rows[at] = match.group(1) + names[0] + match.group(3)
    for number in range(at + 1, len(rows)):
        if _NEXT.match(rows[number]):
            break
        found = _INITRD.fullmatch(rows[number])
        if found is not None:
            kept = found.group(2).split()[:-1]
            rows[number] = found.group(1) + b" ".join([*kept, names[1]]) + found.group(3)
            return
    indent = rows[at][: len(rows[at]) - len(rows[at].lstrip())]
    rows.insert(at + 1, indent + b"initrd " + names[1])


# The repair `start-word`: the word on a command line that ends every start at an emergency shell,
# taken out of the menu.
#
# Somebody may have put it there on purpose, so it is asked for. Words inside a loader file, which
# may be signed, are left alone.


START_WORD = RepairId.START_WORD


def propose_start_word(request: Request) -> Proposal:
    """The change of the line that says so.

    Raises:
        RefusedError: no such finding, nobody allowed it, or the line was not found again.
    """
    findings = [each for each in request.calling_for(START_WORD) if each.where.path is not None]
    if not findings:
        raise RefusedError("No command line ends at an emergency shell.", "Nothing is written.")
    if not request.settings.anyway:
        raise RefusedError(
            "The word that ends the start at a shell may be there on purpose.",
            "Ask the user, then add --anyway.",
            "--anyway",
        )
    path, line = str(findings[0].where.path), findings[0].where.line
    environment = request.environment
    for volume in environment.volumes:
        if volume.extended:
            continue
        try:
            found = environment.find(volume, path)
            data = read_whole(environment, volume, found) if found is not None else b""
        except OutOfReachError:
            continue
        rows = data.split(b"\n")
        numbers = [line - 1] if line else list(range(len(rows)))
        for number in numbers:
            row = rows[number] if number < len(rows) else b""
            word = diversion(row.decode("utf-8", errors="replace"))
            if not word:
                continue
            pattern = re.compile(rb"\s+" + re.escape(word.encode()) + rb"(?=\s|$)")
            rows[number] = pattern.sub(b"", row)
            text = b"\n".join(rows)
            if volume.kind.is_journaled and len(text) < len(data):
                text = text.ljust(len(data), b"\n")  # a file that keeps its length keeps its blocks
            changes = put_files(request, volume, {path: text}, f"the word {word} in {path}")
            says = f"{path} on volume {volume.number} no longer says {word}."
            return Proposal(
                repair=START_WORD, says=says, changes=tuple(changes), answers=tuple(findings)
            )
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")


# The repair `mount-optional`: a volume that fstab asks for and nobody has keeps the start no
# longer; the word `nofail` does it (systemd.mount(5), "fstab").
#
# It hides nothing: where the volume comes back it is mounted as before. The word is on the list of
# what is put back at the end.


MOUNT_OPTIONAL = RepairId.MOUNT_OPTIONAL
_FIELDS = re.compile(rb"(\s*\S+\s+\S+\s+\S+)(\s+\S+)?(.*)", re.DOTALL)
_WORD = b"nofail"


def propose_mount_optional(request: Request) -> Proposal:
    """Changes of the lines of fstab.

    Raises:
        RefusedError: no such finding.
    """
    findings = [
        fault for fault in request.calling_for(MOUNT_OPTIONAL) if fault.where.line is not None
    ]
    if not findings:
        raise RefusedError("Every volume that fstab requires is there.", "Nothing is written.")
    path = findings[0].where.path or ""
    same = [fault for fault in findings if fault.where.path == path]
    home, data = _table(request, path)
    rows = data.split(b"\n")
    for fault in same:
        at = (fault.where.line or 0) - 1
        row, sign, remark = rows[at].partition(b"#") if 0 <= at < len(rows) else (b"", b"", b"")
        match = _FIELDS.fullmatch(row)
        if match is None:
            raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")
        words = match.group(2)
        options = b"\t" + _WORD if words is None else words + b"," + _WORD
        rows[at] = match.group(1) + options + match.group(3) + sign + remark
    changes = put_files(request, home, {path: b"\n".join(rows)}, f"the word nofail in {path}")
    lines = ", ".join(str(fault.where.line) for fault in same)
    says = (
        f"{path} on volume {home.number}, line {lines}: the start no longer waits for it (nofail)."
    )
    return Proposal(
        repair=MOUNT_OPTIONAL,
        says=says,
        changes=tuple(changes),
        answers=(),
        fault_after=_still_waits,
    )


def _still_waits(after: Trace) -> str:
    """The volume is as gone as before; only the start gets past it."""
    kinds = {FindingId.MOUNT_MISSING, FindingId.MOUNT_REFUSED}
    left = [fault for fault in after.fatal if fault.id in kinds]
    return f"{left[0].says}" if left else ""


def _table(request: Request, path: str) -> tuple[Volume, bytes]:
    """The fstab of the one Linux system; with several it could not be told which of them is meant.

    Raises:
        RefusedError
    """
    home = only_linux_system(request.environment)[0].volume
    try:
        found = request.environment.find(home, path)
        if found is not None:
            return home, read_whole(request.environment, home, found)
    except OutOfReachError as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")


# The repair `unit-off`: a unit that keeps the start from going on, turned off by a link of ours to
# nothing (systemd.unit(5), "masked").
#
# Which unit that is the screen or the logs tell, so the person names it; of a unit whose program is
# gone, the trace does. One that somebody wrote on the system itself stays as it is: a condition
# that never holds is put beside it. What the start itself depends on is never turned off.


UNIT_OFF = RepairId.UNIT_OFF
_FOLDER = "/etc/systemd/system"
_PLACES = (
    _FOLDER,
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
)
_NAME = re.compile(
    r"[A-Za-z0-9:_.\\@-]{1,200}\.(service|mount|automount|swap|socket|timer|path|device)"
)
_BESIDE, _NEVER = "90-off.conf", b"[Unit]\nConditionPathExists=!/\n"
_NEEDED = re.compile(
    r"(systemd-.*|dbus.*|-|usr|var|boot|getty@.*|serial-getty@.*|console-getty|user@.*|polkit"
    r"|lvm2-.*|dm-event|cryptsetup.*|dracut-.*|initrd-.*|kmod.*|udev.*)\.\w+"
)
"""Units without which nothing starts, or nobody can sign in."""


def propose_unit_off(request: Request) -> Proposal:
    """The change that puts the link.

    Raises:
        UsageError: no unit was named.
        RefusedError: it is not there, is off already, or the start depends on it.
    """
    asked = request.calling_for(UNIT_OFF)
    named = {(each.where.path or "").rpartition("/")[2] for each in asked}
    name = request.settings.unit or (named.pop() if len(named) == 1 else "")
    if not name:
        raise UsageError("Which unit?", "Add --unit NAME, as the screen or the logs write it.")
    if not _NAME.fullmatch(name):
        raise UsageError(f"{name!r} is no name of a unit that can be turned off.")
    if _NEEDED.fullmatch(name):
        raise RefusedError(f"The start depends on {name}.", "Mend what it needs instead.")
    home = only_linux_system(request.environment)[0].volume
    files = request.environment.files(home)
    ours = f"{_FOLDER}/{name}"
    if files.target_of(ours) == "/dev/null":
        raise RefusedError(f"{name} is off already.", "Nothing is written.")
    plain = re.sub(r"@[^.]*\.", "@.", name)
    there = [f"{place}/{each}" for place in _PLACES for each in {name, plain}]
    if not any(files.find(path) is not None for path in there):
        raise RefusedError(f"{name} is no unit of the system on volume {home.number}.")
    answers = tuple(each for each in asked if (each.where.path or "").endswith(f"/{name}"))
    if files.find(ours) is not None and files.target_of(ours) is None:
        path = f"{ours}.d/{_BESIDE}"
        changes = put_files(request, home, {path: _NEVER}, f"what turns {name} off")
        says = f"{name} on volume {home.number} is turned off by a condition in {path}."
    else:
        link = FileAttributes(0o777, 0, 0, None, is_link=True)
        changes = put_files(
            request, home, {ours: b"/dev/null"}, f"link that turns {name} off", {ours: link}
        )
        says = f"{name} on volume {home.number} is turned off by a link in {_FOLDER}."
    return Proposal(
        repair=UNIT_OFF,
        says=says,
        changes=tuple(changes),
        answers=answers,
        fault_after=None if answers else _no_trace_tells,
    )


def _no_trace_tells(_trace: Trace) -> str:
    """Only a test start does; the trace sees that nothing else changed for the worse."""
    return ""


# The repair `default-target`: where a start aims at a target that is gone, or at an emergency
# shell, a link of ours makes it aim at the sign-in (systemd.special(7), `default.target`).


DEFAULT_TARGET = RepairId.DEFAULT_TARGET
_LINK = "/etc/systemd/system/default.target"
_FOLDERS = ("/usr/lib/systemd/system", "/lib/systemd/system")
_TARGETS = ("graphical.target", "multi-user.target")
"""What leads to a sign-in, on a screen or without."""


def propose_default_target(request: Request) -> Proposal:
    """The change that puts the link.

    Raises:
        RefusedError: no such finding, or no target that leads to a sign-in.
    """
    findings = request.calling_for(DEFAULT_TARGET)
    if not findings:
        raise RefusedError("The default target is there.", "Nothing is written.")
    home = only_linux_system(request.environment)[0].volume
    files = request.environment.files(home)
    places = [f"{folder}/{name}" for folder in _FOLDERS for name in _TARGETS]
    aim = next((place for place in places if files.find(place) is not None), None)
    if aim is None:
        raise RefusedError(
            "No target that leads to a sign-in is on the root.", "Put the package files back first."
        )
    link = FileAttributes(0o777, 0, 0, None, is_link=True)
    changes = put_files(
        request, home, {_LINK: aim.encode()}, "link to the default target", {_LINK: link}
    )
    says = f"{_LINK} on volume {home.number} becomes a link to {aim}."
    return Proposal(repair=DEFAULT_TARGET, says=says, changes=tuple(changes), answers=findings)


# The repair `account-copy`: the list of accounts, or the passwords, that is empty or damaged, put
# back from the copy that the programs of accounts keep of the state before their last change
# (passwd(5), shadow(5)).
#
# What was changed last is lost with it; that is said. A copy that is not whole itself is not taken.


ACCOUNT_COPY = RepairId.ACCOUNT_COPY
_ACCOUNTS, _SECRETS, _GROUPS = "/etc/passwd", "/etc/shadow", "/etc/group"
_MODES = {_ACCOUNTS: 0o644, _SECRETS: 0o640, _GROUPS: 0o644}
_SHADOW_GROUP = "shadow"


def propose_account_copy(request: Request) -> Proposal:
    """The changes that put the files back.

    Raises:
        RefusedError: no such finding, or a copy that is not whole.
    """
    findings = [each for each in request.calling_for(ACCOUNT_COPY) if each.where.path in _MODES]
    if not findings:
        raise RefusedError("The files of accounts are whole.", "Nothing is written.")
    home = only_linux_system(request.environment)[0].volume
    named = dict.fromkeys(str(each.where.path) for each in findings)
    try:
        paths = [*named, *(path for path in _MODES if path not in named and _empty(request, path))]
        copies = {path: request.environment.read(home, path + COPY_ENDING) for path in paths}
        table = request.environment.read(home, "/etc/group").decode("utf-8", errors="replace")
    except OutOfReachError as error:
        raise RefusedError(f"The copies cannot be read: {error}") from error
    for path, data in copies.items():
        _refuse_damaged(path + COPY_ENDING, data)
    attributes = {
        path: FileAttributes(_MODES[path], 0, _group(table) if path == _SECRETS else 0, None)
        for path in paths
    }
    changes = put_files(request, home, copies, "files of accounts", attributes)
    listed = " and ".join(paths)
    says = (
        f"{listed} on volume {home.number} becomes what its copy has: the state before the last"
        " change of an account or a password."
    )
    return Proposal(repair=ACCOUNT_COPY, says=says, changes=tuple(changes), answers=tuple(findings))


def _empty(request: Request, path: str) -> bool:
    """Whether another of the files is empty and has a copy: what emptied one often emptied all."""
    home, environment = only_linux_system(request.environment)[0].volume, request.environment
    found, copy = (environment.find(home, each) for each in (path, path + COPY_ENDING))
    return found is not None and found.bytes == 0 and copy is not None and copy.bytes > 0


def _refuse_damaged(path: str, data: bytes) -> None:
    """Raise RefusedError where a copy would let nobody in either."""
    rows = data.decode("utf-8", errors="replace").splitlines()
    whole = all(row.count(":") >= 1 for row in rows if row.strip())
    if path.startswith(_ACCOUNTS):
        first = any(row.split(":")[2:3] == ["0"] for row in rows)
        whole = whole and first and bool(read_accounts(rows))
    if not whole or not rows:
        raise RefusedError(f"The copy {path} is not whole either.", "Put both back from a backup.")


def _group(table: str) -> int:
    """The number of the group that may read passwords; the administrator's where there is none."""
    for row in table.splitlines():
        fields = row.split(":")
        if fields[0] == _SHADOW_GROUP and len(fields) > 2 and fields[2].isdecimal():
            return int(fields[2])
    return 0
