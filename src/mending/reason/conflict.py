"""Evidence that does not go together.

Let the lift of a piece under a cause be P(piece | cause) / P(piece). Two pieces are in conflict
where the best cause of each on its own lifts it far, and no cause lifts both: the product of the
two highest lifts, over the highest product under one cause, is large. It is the likelihood ratio of
two causes against one. Then a piece is mistaken, or there are two faults.
"""

from collections.abc import Mapping, Sequence
from itertools import combinations

import msgspec

from mending.knowledge import Answer, Pack
from mending.reason.likelihood import Item
from mending.reason.reach import WRONG_ANSWER, possible_phases

_CONFLICT = 4.0
"""Ratio from which two pieces are said to contradict each other."""
_SHOWN = 3


class Contradiction(msgspec.Struct, frozen=True, kw_only=True):
    """Two pieces of evidence that seldom go together.

    Attributes:
        ratio: how many times better two causes explain them than one.
    """

    evidence: str
    other: str
    ratio: float


def contradictions(prior: Mapping[str, float], told: Sequence[Item]) -> tuple[Contradiction, ...]:
    """The worst first, a few at most. Args: prior: chance by cause before the evidence."""
    lifts = [_lifts(prior, item) for item in told]
    rows = []
    for (a, first), (b, second) in combinations(enumerate(told), 2):
        if first.sure and second.sure:
            continue
        apart = max(lifts[a].values()) * max(lifts[b].values())
        ratio = apart / max(lifts[a][cause] * lifts[b][cause] for cause in prior)
        if ratio >= _CONFLICT:
            rows.append(
                Contradiction(evidence=first.says, other=second.says, ratio=round(ratio, 1))
            )
    return tuple(sorted(rows, key=lambda row: -row.ratio)[:_SHOWN])


def impossible_pairs(pack: Pack, seen: Mapping[str, str]) -> tuple[Contradiction, ...]:
    """Pairs of answers that cannot both be right: by one the start gets farther than by the other.

    The ratio is that of one wrong answer against none.
    """
    rows = [
        (
            f"{name}={answer}: {pack.signs[name].answers[answer].says}",
            pack.signs[name].answers[answer],
        )
        for name, answer in seen.items()
        if name in pack.signs and answer in pack.signs[name].answers
    ]
    return tuple(
        Contradiction(evidence=first, other=second, ratio=round(1 / WRONG_ANSWER, 1))
        for (first, near), (second, far) in combinations(rows, 2)
        if _apart(near, far)
    )


def _apart(first: Answer, second: Answer) -> bool:
    """Whether no start shows both."""
    return not set(possible_phases(first)) & set(possible_phases(second))


def _lifts(prior: Mapping[str, float], item: Item) -> dict[str, float]:
    overall = sum(chance * item.given[cause] for cause, chance in prior.items())
    return {cause: item.given[cause] / overall for cause in prior}
