"""The repair `entry-kernel`: a boot entry that asks for a kernel or an initramfs that is gone or
damaged, made to name the sound ones that lie beside it.

Only the two names change; the command line and everything else in the entry stay. Menus of GRUB and
of SYSLINUX and entry files of systemd-boot write both in the same words (`linux`, `initrd`).
"""

import re

from mending.boot.chain import OutOfReachError
from mending.boot.linux import KernelWithInitramfs, Part, kernels_beside
from mending.boot.new_entry import is_plain
from mending.disk.volume import Volume
from mending.model import RefusedError, RepairId, Where
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files, read_whole

REPAIR = RepairId.ENTRY_KERNEL
_KERNEL = re.compile(rb"(\s*(?:linux\w*|kernel)\s+)(\S+)(.*)", re.DOTALL | re.IGNORECASE)
_INITRD = re.compile(rb"(\s*initrd\w*\s+)(.*\S)(\s*)", re.DOTALL | re.IGNORECASE)
_NEXT = re.compile(rb"\s*(?:\}|menuentry\b|label\b)", re.IGNORECASE)


def propose(request: Request) -> Proposal:
    """Changes of the lines that name what is not sound.

    Raises:
        RefusedError: no such finding, no sound kernel beside, or names that are made up of
            variables.
    """
    findings = [fault for fault in request.calling_for(REPAIR) if fault.asked_by is not None]
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
    return Proposal(repair=REPAIR, says=says, changes=tuple(changes), answers=same)


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
