"""What of a healthy copy is otherwise on the disk now."""

import hashlib
from collections.abc import Iterator

from mending.boot.chain import BootEnvironment, ChangedPart, OutOfReachError
from mending.disk.files import FilesUnavailableError
from mending.disk.healthy import HealthyCopy, HealthyIndex, KeptFile
from mending.disk.layout import Disk
from mending.disk.volume import Volume
from mending.model import InputError, Phase
from mending.repair.healthy.collect import read_as_kept


def changed_parts(index: HealthyIndex, environment: BootEnvironment) -> Iterator[ChangedPart]:
    """Every part that is not as it was kept, in the order of starting."""
    disk = environment.disk
    found = [] if disk is None else list(_ranges(index, disk))
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


def _ranges(index: HealthyIndex, disk: Disk) -> Iterator[ChangedPart]:
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
