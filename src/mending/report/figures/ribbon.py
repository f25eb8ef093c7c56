"""Where the stretches of a disk map go on a ribbon: to scale, but nothing narrower than can be
read.
"""

from collections.abc import Mapping, Sequence
from itertools import pairwise

import msgspec

from mending.disk.scan import DiskMap, Stretch


class Box(msgspec.Struct, frozen=True):
    """One stretch on the ribbon, from `left` to `right` in the units of its width; `lane` is 0 but
    for overlaps.
    """

    stretch: Stretch
    left: float
    right: float
    lane: int


def lay_out(disk: DiskMap, width: float, least: Mapping[str, float]) -> tuple[Box, ...]:
    """A box for every stretch.

    Args:
        width: of the whole ribbon.
        least: width below which a kind of stretch cannot be read; what is left over is shared to
            scale.
    """
    clipped = [
        (stretch, max(stretch.start, 0), min(stretch.start + stretch.sectors, disk.sectors))
        for stretch in disk.stretches
    ]
    shown = [(stretch, start, end) for stretch, start, end in clipped if start < end]
    edges = sorted(
        {0, disk.sectors, *(start for _, start, _ in shown), *(end for _, _, end in shown)}
    )
    pieces = list(pairwise(edges))
    wanted = [
        max(
            (_need(stretch, start, end, piece, least) for stretch, start, end in shown), default=0.0
        )
        for piece in pieces
    ]
    places = [0.0]
    for size in to_scale([end - start for start, end in pieces], wanted, width):
        places.append(places[-1] + size)
    at = dict(zip(edges, places, strict=True))
    lanes: list[int] = []
    boxes = []
    for stretch, start, end in shown:
        lane = next((number for number, last in enumerate(lanes) if last <= start), len(lanes))
        lanes[lane : lane + 1] = [end]
        boxes.append(Box(stretch, at[start], at[end], lane))
    return tuple(boxes)


def to_scale(lengths: Sequence[float], least: Sequence[float], width: float) -> list[float]:
    """Widths that add up to `width`, in proportion to the lengths, and none below its least as far
    as there is room.
    """
    room = min(1.0, width / sum(least)) if sum(least) else 1.0
    floor = [share * room for share in least]
    fixed: set[int] = set()
    while True:
        rest = [number for number in range(len(lengths)) if number not in fixed]
        left = width - sum(floor[number] for number in fixed)
        total = sum(lengths[number] for number in rest)
        scale = left / total if total else 0.0
        narrow = {number for number in rest if lengths[number] * scale < floor[number]}
        if not narrow:
            return [
                floor[at] if at in fixed else length * scale for at, length in enumerate(lengths)
            ]
        fixed |= narrow


def _need(
    stretch: Stretch, start: int, end: int, piece: tuple[int, int], least: Mapping[str, float]
) -> float:
    """What a stretch needs of a piece of the ribbon that it covers; its need is shared by length
    among its pieces.
    """
    if not start <= piece[0] < piece[1] <= end:
        return 0.0
    return least.get(stretch.kind, 0.0) * (piece[1] - piece[0]) / (end - start)
