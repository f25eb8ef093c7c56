"""The repair `fat-mirror`: two FATs made alike, from the one by which folders and files hang
together.
"""

from mending.disk.fat import FatCopy, read_fats, sound_one
from mending.disk.system import read_contents
from mending.disk.volume import Volume, fat_volume
from mending.model import FindingId, Patch, RefusedError, RepairId
from mending.repair.base import Proposal, Request, check_awake
from mending.source import Source

REPAIR = RepairId.FAT_MIRROR
_ANSWERS = (FindingId.FATS_DIFFER,)
_NEAR = 512
"""Bytes that differ this close to each other are written in one patch."""


def propose(request: Request) -> Proposal:
    """Patches of the ranges in which the worse FAT differs.

    Raises:
        RefusedError: no volume whose FATs differ, or no telling which of them is sound.
    """
    source, named = (
        request.disk.source,
        [finding for finding in request.trace.findings if finding.id in _ANSWERS],
    )
    wanted = [
        volume
        for volume in request.disk.volumes
        if any(_inside(finding.where.offset, volume) for finding in named)
    ]
    if not wanted:
        raise RefusedError(
            "The two FATs of every volume agree, as far as they can be read.", "Nothing is written."
        )
    patches, says = [], []
    for volume in wanted:
        check_awake(read_contents(source, volume))
        good, bad, why = _pair(source, volume)
        patches += _patches(volume, good, bad)
        says.append(
            f"Makes FAT {bad.number} of volume {volume.number} like FAT {good.number}, because"
            f" {why}."
        )
    return Proposal(
        repair=REPAIR,
        says=" ".join(says),
        changes=tuple(patches),
        answers=request.found(*_ANSWERS),
    )


def _inside(offset: int | None, volume: Volume) -> bool:
    return offset is not None and volume.offset <= offset < volume.offset + volume.bytes


def _pair(source: Source, volume: Volume) -> tuple[FatCopy, FatCopy, str]:
    shape = fat_volume(source, volume)
    pair = read_fats(source, shape)
    good, why = sound_one(source, shape, pair)
    if good is None:
        raise RefusedError(
            f"Which FAT of volume {volume.number} is sound cannot be told: {why}.",
            "Copy files off it.",
        )
    bad = next(copy for copy in pair.copies if copy is not good)
    if bad.problem:
        raise RefusedError(
            f"FAT {bad.number} of volume {volume.number} cannot be read: {bad.problem}",
            "Copy it off.",
        )
    return good, bad, why


def _patches(volume: Volume, good: FatCopy, bad: FatCopy) -> list[Patch]:
    """One patch for every stretch that differs."""
    differ = [
        at
        for at in range(0, len(good.data), _NEAR)
        if good.data[at : at + _NEAR] != bad.data[at : at + _NEAR]
    ]
    patches = []
    while differ:
        start = end = differ.pop(0)
        while differ and differ[0] == end + _NEAR:
            end = differ.pop(0)
        unlike = [
            at
            for at in range(start, min(end + _NEAR, len(good.data)))
            if good.data[at] != bad.data[at]
        ]
        first, last = unlike[0], unlike[-1] + 1
        says = f"FAT {bad.number} of volume {volume.number}"
        patches.append(Patch(bad.offset + first, bad.data[first:last], good.data[first:last], says))
    return patches
