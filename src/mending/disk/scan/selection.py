"""Volumes told from leftovers: what overlaps something surer is not believed."""

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from mending.disk.scan.candidates import Candidate
from mending.model import ByteOffset

_LEAST = 0.4


def choose(found: Iterable[Candidate]) -> list[Candidate]:
    """The surest volumes that do not overlap each other, in the order of the disk."""
    best: dict[tuple[int, str], Candidate] = {}
    for candidate in found:
        key = (candidate.offset, candidate.filesystem)
        if candidate.confidence >= _LEAST and (
            key not in best or best[key].confidence < candidate.confidence
        ):
            best[key] = candidate
    kept: list[Candidate] = []
    for candidate in sorted(
        best.values(), key=lambda candidate: (-candidate.confidence, candidate.offset)
    ):
        if not any(overlap(candidate, other) for other in kept):
            kept.append(candidate)
    return sorted(kept, key=lambda candidate: candidate.offset)


def reaching(
    found: Sequence[Candidate], listed: Mapping[ByteOffset, int], end: int
) -> list[Candidate]:
    """The same volumes, those that tell no length as long as they can be: as their entry says, else
    up to the next volume. One that is too long loses nothing, one that is too short does not mount.

    Args:
        listed: bytes of each volume of the table, by its first byte on the disk.
        end: the first byte behind what volumes may take.
    """
    starts = sorted({*listed, *(candidate.offset for candidate in found), end})
    made = []
    for candidate in found:
        if candidate.open_ended:
            behind = next((start for start in starts if start > candidate.offset), end)
            length = listed.get(candidate.offset, behind - candidate.offset)
            candidate = msgspec.structs.replace(candidate, bytes=max(length, candidate.bytes))
        made.append(candidate)
    return made


def overlap(candidate: Candidate, other: Candidate) -> bool:
    """Whether two volumes share a byte."""
    return (
        candidate.offset < other.offset + other.bytes
        and other.offset < candidate.offset + candidate.bytes
    )
