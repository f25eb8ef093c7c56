"""What starts a PC, gathered from its disk: ranges that no file holds, and files."""

import hashlib
from collections.abc import Callable, Iterator, Mapping

from mending.boot.chain import BootEnvironment, ChangedPart, OutOfReachError
from mending.boot.linux import FIRST_PROGRAMS, find_sound_kernels
from mending.boot.nt import start_files
from mending.boot.uefi import efi_volumes
from mending.disk.files import Files, FilesUnavailableError
from mending.disk.healthy import HealthyCopy, HealthyIndex, KeptFile, KeptRange, why_not_of
from mending.disk.layout import Disk
from mending.disk.volume import Volume
from mending.formats import gpt, mbr
from mending.knowledge.families import nt_names
from mending.model import (
    Change,
    FileAttributes,
    FilesystemKind,
    InputError,
    Patch,
    Phase,
    RefusedError,
    RepairId,
    plain_size,
    silent,
)
from mending.model.limits import LARGEST_CHANGE
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files

Range = tuple[KeptRange, bytes]
File = tuple[KeptFile, bytes | None]
PhaseOf = Callable[[str], Phase]

_GAP_BYTES, _CORE_BYTES = 1 << 20, 4 << 20
"""How much is kept of what lies behind the table, and of a partition for a boot manager's core."""
_ENTRIES_BYTES = 128 * 128
"""Of a GPT, as every program makes it."""
_MOST_FILES, _MOST_BYTES = 4000, 1 << 30
_DEPTH = 8
_BOOT_SECTORS = {
    FilesystemKind.NTFS: 8192,
    FilesystemKind.EXFAT: 12 * 512,
    FilesystemKind.EXT: 1024,
    FilesystemKind.FAT12: 512,
    FilesystemKind.FAT16: 512,
    FilesystemKind.FAT32: 512,
}
"""Bytes at the start of a volume that no use of it changes."""
_LINUX = (
    ("/etc/fstab", Phase.SESSION),
    ("/etc/crypttab", Phase.SESSION),
    ("/etc/default/grub", Phase.BOOT_MANAGER),
    ("/etc/kernel/cmdline", Phase.LOADER),
    ("/etc/systemd/system/default.target", Phase.SESSION),
    ("/usr/lib/systemd/system/default.target", Phase.SESSION),
    ("/sbin/init", Phase.KERNEL),
    *((path, Phase.KERNEL) for path in FIRST_PROGRAMS),
    ("/bin/sh", Phase.KERNEL),
    ("/lib64/ld-linux-x86-64.so.2", Phase.KERNEL),
)
_HIVES = ("system", "software", "sam", "security", "default")
_KERNELS = ("vmlinuz", "vmlinux", "linux", "initr", "kernel", "bzimage")


def collect(
    environment: BootEnvironment, left_out: list[str]
) -> tuple[list[Range], Iterator[File]]:
    """The ranges, and the files one after the other.

    Args:
        left_out: takes a sentence for everything that was too large or could not be read.
    """
    disk = environment.disk
    if disk is None:
        raise RefusedError(
            "A healthy copy is made of a disk and not of a folder.", "Name the image or the device."
        )
    return list(_ranges(disk)), _Gatherer(environment, left_out).files()


def _ranges(disk: Disk) -> Iterator[Range]:
    size, source = disk.source.bytes_per_sector, disk.source
    yield from _range(disk, "boot code", Phase.BOOT_RECORD, 0, mbr.CODE_SIZE)
    yield from _range(disk, "partition table", Phase.FIRMWARE, mbr.CODE_SIZE, 512 - mbr.CODE_SIZE)
    first = min((volume.offset for volume in disk.volumes if volume.offset), default=0)
    behind = size
    if disk.gpt is not None:
        behind = 2 * size + _ENTRIES_BYTES
        yield from _range(disk, "first copy of the table", Phase.FIRMWARE, size, behind - size)
        length = behind - size
        at = disk.sectors * size - length  # entries, then the header
        yield from _range(disk, "second copy of the table", Phase.FIRMWARE, at, length)
    if first > behind:
        length = min(first - behind, _GAP_BYTES)
        yield from _range(disk, "boot code behind the table", Phase.BOOT_RECORD, behind, length)
    for volume in disk.volumes:
        if volume.extended:
            yield from _range(
                disk, "table of an extended entry", Phase.FIRMWARE, volume.offset, 512
            )
        elif volume.type == gpt.BIOS_BOOT:
            length = min(volume.bytes, _CORE_BYTES)
            yield from _range(disk, "boot manager's core", Phase.BOOT_RECORD, volume.offset, length)
        elif volume.filesystem in _BOOT_SECTORS:
            length = min(_BOOT_SECTORS[volume.filesystem], volume.bytes)
            what = f"boot sector of volume {volume.number}"
            if source.size >= volume.offset + length:
                yield from _range(disk, what, Phase.BOOT_RECORD, volume.offset, length)


def _range(disk: Disk, what: str, phase: Phase, offset: int, length: int) -> Iterator[Range]:
    try:
        data = disk.source.read(offset, length).data
    except InputError:
        return  # what cannot be read is not kept
    if data:
        digest = hashlib.sha256(data).hexdigest()
        kept = KeptRange(what=what, phase=phase, offset=offset, length=len(data), sha256=digest)
        yield kept, data


class _Gatherer:
    """Walks the volumes once, and takes no file twice."""

    def __init__(self, environment: BootEnvironment, left_out: list[str]) -> None:
        self._environment, self._left_out = environment, left_out
        self._seen: set[tuple[int, str]] = set()
        self._bytes = 0

    def files(self) -> Iterator[File]:
        """All of them. What cannot be read is left out and said."""
        environment = self._environment
        for esp in efi_volumes(environment):
            yield from self._tree(esp.volume, "/", _phase_of_loader)
        for volume in environment.volumes:
            if volume.extended or not volume.kind.is_readable:
                continue
            inside = environment.contents(volume)
            families = {system.family for system in inside.systems}
            if "linux" in families:
                yield from self._tree(volume, "/boot", _phase_of_boot_file)
                for path, phase in _LINUX:
                    yield from self._one(volume, path, phase, "system file")
            elif find_sound_kernels(environment, volume):
                yield from self._tree(volume, "/", _phase_of_boot_file)
            yield from self._managers(volume)
        yield from self._of_nt()

    def _managers(self, volume: Volume) -> Iterator[File]:
        names = nt_names().store
        for name in (*names.managers, names.beside_code):
            yield from self._one(volume, f"/{name}", Phase.BOOT_MANAGER, "boot manager")

    def _of_nt(self) -> Iterator[File]:
        try:
            listed = start_files(self._environment, silent)
        except (RefusedError, FilesUnavailableError) as error:
            self._left_out.append(error.says)
            return
        if listed is None:
            return
        volume, files = listed
        for each in files:
            yield from self._one(volume, each.path, _phase_of_nt(each.role), each.role)
        kernel = next((each.path for each in files if each.role == "kernel"), "")
        folder = kernel.rpartition("/")[0]
        for hive in _HIVES:
            yield from self._one(volume, f"{folder}/config/{hive}", Phase.LOADER, "hive")
        for name in ("winload.exe", "winload.efi"):
            yield from self._one(volume, f"{folder}/{name}", Phase.LOADER, "loader")

    def _tree(
        self, volume: Volume, folder: str, phase_of: PhaseOf, depth: int = 0
    ) -> Iterator[File]:
        try:
            files = self._environment.files(volume)
            top = files.find(folder)
            inside = files.listing(top.path) if top is not None and top.is_folder else []
        except (OutOfReachError, FilesUnavailableError) as error:
            self._left_out.append(f"{folder} on volume {volume.number}: {error}")
            return
        for file in inside:
            if file.is_folder and not file.is_link and depth < _DEPTH:
                yield from self._tree(volume, file.path, phase_of, depth + 1)
            elif not file.is_folder:
                yield from self._one(volume, file.path, phase_of(file.path), "boot file")

    def _one(self, volume: Volume, path: str, phase: Phase, what: str) -> Iterator[File]:
        try:
            files = self._environment.files(volume)
            path = _real(files, path)  # as it is written there: boot code may ask for no other
            found = _read(files, path)
            behind = files.find(path) if found is not None and found[1].is_link else None
        except (OutOfReachError, FilesUnavailableError) as error:
            self._left_out.append(f"{path} on volume {volume.number}: {error}")
            return
        key = (volume.number, path.lower())
        if found is None or key in self._seen or len(self._seen) >= _MOST_FILES:
            return
        self._seen.add(key)
        data, attributes = found
        identifier = self._environment.contents(volume).info.identifier
        self._bytes += len(data)
        fits = len(data) <= LARGEST_CHANGE and self._bytes <= _MOST_BYTES
        if not fits:
            self._left_out.append(
                f"{path} ({plain_size(len(data))}) is too large; its sum is kept."
            )
        kept = KeptFile(
            path=path,
            what=what,
            phase=phase,
            volume=volume.number,
            identifier=identifier,
            bytes=len(data),
            sha256=hashlib.sha256(data).hexdigest(),
            attributes=attributes,
            kept=fits,
        )
        yield kept, data if fits else None
        if behind is not None and not behind.is_folder:
            yield from self._one(volume, behind.path, phase, what)


def _real(files: Files, path: str) -> str:
    """A path as it is written on the volume, whose folders are no links."""
    folder, _, name = path.rpartition("/")
    home = files.find(folder)
    if home is None or not home.is_folder:
        return path
    wanted = f"{home.path.rstrip('/')}/{name}"
    names = {file.path.lower(): file.path for file in files.listing(home.path)}
    exact = {file.path for file in files.listing(home.path)}
    return wanted if wanted in exact else names.get(wanted.lower(), wanted)


def read_as_kept(files: Files, path: str) -> bytes | None:
    """The content of a file, or what a link points at; None where there is neither.

    Raises:
        FilesUnavailableError
    """
    found = _read(files, path)
    return found[0] if found is not None else None


def _read(files: Files, path: str) -> tuple[bytes, FileAttributes] | None:
    target = files.target_of(path)
    if target is not None:
        return target.encode(), FileAttributes(0o777, 0, 0, None, is_link=True)
    found = files.find(path)
    if found is None or found.is_folder or not found.bytes:
        return None  # devices and pipes look like empty files, and no start needs one of those
    return files.read(found, LARGEST_CHANGE + 1), FileAttributes(found.mode, 0, 0, None)


def _phase_of_loader(path: str) -> Phase:
    name = path.lower()
    if name.endswith(".efi"):
        return Phase.BOOT_RECORD
    return _phase_of_boot_file(path)


def _phase_of_boot_file(path: str) -> Phase:
    name = path.lower().rpartition("/")[2]
    return Phase.LOADER if name.startswith(_KERNELS) else Phase.BOOT_MANAGER


def _phase_of_nt(role: str) -> Phase:
    known = ("kernel", "hardware layer", "driver")
    return Phase.LOADER if role.startswith(known) else Phase.SESSION


# What of a healthy copy is otherwise on the disk now.


def changed_parts(index: HealthyIndex, environment: BootEnvironment) -> Iterator[ChangedPart]:
    """Every part that is not as it was kept, in the order of starting."""
    disk = environment.disk
    found = [] if disk is None else list(_compare_ranges(index, disk))
    for number, kept in enumerate(index.files):
        state = _state(environment, kept)
        if state:
            found.append(
                ChangedPart(
                    kind="file",
                    number=number,
                    phase=kept.phase,
                    what=kept.what,
                    state=state,
                    path=kept.path,
                )
            )
    yield from sorted(found, key=lambda part: Phase(part.phase).rank)


def _compare_ranges(index: HealthyIndex, disk: Disk) -> Iterator[ChangedPart]:
    if index.bytes != disk.source.size:
        return  # another length: places do not compare
    for number, kept in enumerate(index.ranges):
        try:
            data = disk.source.read(kept.offset, kept.length).data
            state = "" if hashlib.sha256(data).hexdigest() == kept.sha256 else "differs"
        except InputError:
            state = "unreadable"
        if state:
            yield ChangedPart(
                kind="range",
                number=number,
                phase=kept.phase,
                what=kept.what,
                state=state,
                offset=kept.offset,
            )


def _state(environment: BootEnvironment, kept: KeptFile) -> str:
    """What is with a file: `missing differs unreadable`; empty where it is as it was."""
    volume = volume_of(environment, kept)
    if volume is None:
        return "volume-missing"
    try:
        data = read_as_kept(environment.files(volume), kept.path)
    except (OutOfReachError, FilesUnavailableError):
        return "unreadable"
    if data is None:
        return "missing"
    return "" if hashlib.sha256(data).hexdigest() == kept.sha256 else "differs"


def volume_of(environment: BootEnvironment, kept: KeptFile) -> Volume | None:
    """The volume that a file was on: by the identifier of its file system; where that has none, by
    its number.
    """
    for volume in environment.volumes:
        if volume.extended or not volume.kind.is_readable:
            continue
        identifier = environment.contents(volume).info.identifier
        if identifier == kept.identifier and (identifier or volume.number == kept.volume):
            return volume
    return None


def content_of(copy: HealthyCopy, part: ChangedPart) -> bytes | None:
    """The bytes of a part as they were kept; None where only the sum was.

    Raises:
        InputError: the copy is damaged.
    """
    if part.kind == "range":
        return copy.range_bytes(part.number)
    return copy.file_bytes(part.number) if copy.index.files[part.number].kept else None


# The repair `healthy-parts`: what a healthy copy of this PC has otherwise than the disk, put back
# as far as the phase needs it in which the start ends.
#
# First only the parts of that phase; where those do not prove themselves, everything up to it.


HEALTHY_PARTS = RepairId.HEALTHY_PARTS
_SHOWN = 4


def propose_healthy_parts(request: Request) -> Proposal:
    """The changes that put parts back.

    Raises:
        RefusedError: no copy, one of another PC, or nothing in it differs from what is there.
    """
    copy = request.settings.healthy
    if copy is None:
        raise RefusedError(
            "No healthy copy was named.",
            "Add --from FILE; `mending keep` makes one.",
            "--from FILE",
        )
    why = why_not_of(copy.index, request.disk)
    if why and not request.settings.other_pc:
        raise RefusedError(
            f"{copy.path} is of another PC: {why}.",
            "If it surely fits, add --other-pc.",
            "--other-pc",
        )
    failing = request.trace.failing_phase
    if failing is None:
        raise RefusedError("The start does not end anywhere.", "Nothing is written.")
    parts = list(_wanted(request, copy, failing))
    if not parts:
        raise RefusedError(
            f"Nothing that the start needs up to {failing} is otherwise in {copy.path}.",
            "What is wrong came before the copy was made, or is not in it.",
        )
    try:
        changes = [*_range_changes(request, copy, parts), *_file_changes(request, copy, parts)]
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    answers = request.trace.fatal[:1]
    return Proposal(
        repair=HEALTHY_PARTS,
        says=f"Puts back from {copy.path.name} (made {copy.index.made[:10]}): {_listed(parts)}.",
        changes=tuple(changes),
        answers=answers,
    )


def _wanted(request: Request, copy: HealthyCopy, failing: Phase) -> Iterator[ChangedPart]:
    """Parts of the failing phase, or of all up to it, whose bytes are in the copy and whose volume
    is there.
    """
    for part in changed_parts(copy.index, request.environment):
        phase = Phase(part.phase)
        fits = phase.rank <= failing.rank if request.settings.whole_way else phase is failing
        kept = part.kind == "range" or copy.index.files[part.number].kept
        if fits and kept and part.state != "volume-missing":
            yield part


def _range_changes(
    request: Request, copy: HealthyCopy, parts: list[ChangedPart]
) -> Iterator[Patch]:
    for part in parts:
        if part.kind != "range":
            continue
        data = content_of(copy, part) or b""
        before = request.disk.source.read(part.offset or 0, len(data)).data
        yield Patch(part.offset or 0, before, data, part.what)


def _file_changes(
    request: Request, copy: HealthyCopy, parts: list[ChangedPart]
) -> Iterator[Change]:
    by_volume: dict[int, dict[str, bytes]] = {}
    attributes: dict[int, dict[str, FileAttributes]] = {}
    volumes = {}
    for part in parts:
        if part.kind != "file":
            continue
        kept = copy.index.files[part.number]
        volume, data = volume_of(request.environment, kept), content_of(copy, part)
        if volume is None or data is None:
            continue
        volumes[volume.number] = volume
        by_volume.setdefault(volume.number, {})[kept.path] = data
        if kept.attributes is not None:
            attributes.setdefault(volume.number, {})[kept.path] = kept.attributes
    for number, files in by_volume.items():
        given: Mapping[str, FileAttributes] = attributes.get(number, {})
        yield from put_files(request, volumes[number], files, _file_says(files), given)


def _file_says(files: Mapping[str, bytes]) -> str:
    names = list(files)
    return ", ".join(names[:_SHOWN]) + (
        f" and {len(names) - _SHOWN} more" if len(names) > 4 else ""
    )


def _listed(parts: list[ChangedPart]) -> str:
    names = [part.path or part.what for part in parts]
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return ", ".join(names[:_SHOWN]) + more
