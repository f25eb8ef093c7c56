"""Where a phrase of the pack stands in what was said, and whether it is denied there.

A phrase is found in a clause where each of its words stands, in any order, at most a few words
apart. It is denied where a word of denial stands shortly before it, with no joint between them, and
is not itself a word of the phrase, or where one stands between it and a verb of being there.
"""

from itertools import product
from math import prod

from mending.reason.speech import JOINT, NOT

_APART = 4
"""So many other words may stand among those of a phrase."""
_REACH = 3
"""A word of denial speaks of what begins at most so many words behind it."""
_NEXT = 2
"""In a phrase with a denial its next word comes at most so many places behind it."""
_MOST_PLACINGS = 64

Phrase = tuple[frozenset[str], ...]
"""For each word of a phrase those that may stand for it."""


def phrase_places(words: tuple[str, ...], phrase: Phrase) -> tuple[int, ...] | None:
    """Where the words of a phrase stand closest together; None where they are too far apart."""
    where = [[at for at, word in enumerate(words) if word in part] for part in phrase]
    if prod(len(places) for places in where) > _MOST_PLACINGS:
        where = [places[:2] for places in where]
    placings = [placing for placing in product(*where) if _fits(words, placing)]
    if not placings:
        return None
    best = min(placings, key=lambda placing: max(placing) - min(placing))
    near = max(best) - min(best) < len(phrase) + _APART
    return best if near else None


def _fits(words: tuple[str, ...], placing: tuple[int, ...]) -> bool:
    """Each word in a place of its own, and no joint in between where a denial belongs to them."""
    if len(set(placing)) < len(placing):
        return False
    denial = next((at for at in placing if words[at] == NOT), None)
    if denial is None:
        return True
    behind = placing[placing.index(denial) + 1 :]
    if JOINT in words[min(placing) : max(placing)] or any(at < denial for at in behind):
        return False
    return not behind or min(behind) - denial <= _NEXT


def is_denied(
    words: tuple[str, ...], places: tuple[int, ...], absences: frozenset[str] = frozenset()
) -> bool:
    """Whether a word of denial, which is none of the phrase, speaks of it.

    Args:
        absences: verbs that deny what stands before them where a word of denial stands between.
    """
    first, last = min(places), max(places)
    if JOINT in words[first:last]:
        return (
            False  # what is denied is a part of it at most: "not the monitor, I swapped that, same"
        )
    if words[last + 1 : last + 2] == (NOT,) and set(words[last + 2 : last + 4]) & absences:
        return True
    for at in range(max(places), max(first - _REACH, 0) - 1, -1):
        if at < first and words[at] == JOINT:
            return False
        if words[at] == NOT and at not in places:
            return True
    return False
