"""The repair `healthy-parts`: what a healthy copy of this PC has otherwise than the disk, put back
as far as the phase needs it in which the start ends.

First only the parts of that phase; where those do not prove themselves, everything up to it.
"""

from collections.abc import Iterator, Mapping

from mending.boot.chain import ChangedPart
from mending.disk.healthy import HealthyCopy, why_not_of
from mending.model import (
    Change,
    FileAttributes,
    InputError,
    Patch,
    Phase,
    RefusedError,
    RepairId,
)
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files
from mending.repair.healthy.compare import changed_parts, content_of, volume_of

REPAIR = RepairId.HEALTHY_PARTS
_SHOWN = 4


def propose(request: Request) -> Proposal:
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
        repair=REPAIR,
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
