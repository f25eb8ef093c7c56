"""Volumes told from leftovers: what overlaps something surer is not believed."""

from collections.abc import Iterable

from mending.disk.scan.candidates import Candidate

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


def overlap(candidate: Candidate, other: Candidate) -> bool:
    """Whether two volumes share a byte."""
    return (
        candidate.offset < other.offset + other.bytes
        and other.offset < candidate.offset + candidate.bytes
    )
