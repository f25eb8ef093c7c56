"""Volumes told from leftovers: what overlaps something surer is not believed."""

from collections.abc import Iterable

from mending.disk.candidates import Found

_LEAST = 0.4


def choose(found: Iterable[Found]) -> list[Found]:
    """The surest volumes that do not overlap each other, in the order of the disk."""
    best: dict[tuple[int, str], Found] = {}
    for one in found:
        key = (one.offset, one.filesystem)
        if one.sureness >= _LEAST and (key not in best or best[key].sureness < one.sureness):
            best[key] = one
    kept: list[Found] = []
    for one in sorted(best.values(), key=lambda one: (-one.sureness, one.offset)):
        if not any(overlap(one, other) for other in kept):
            kept.append(one)
    return sorted(kept, key=lambda one: one.offset)


def overlap(one: Found, other: Found) -> bool:
    """Whether two volumes share a byte."""
    return one.offset < other.offset + other.bytes and other.offset < one.offset + one.bytes
