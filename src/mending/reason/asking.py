"""Which questions tell most about the cause."""

import math

from mending.knowledge import Pack, Sign
from mending.reason.beliefs import Beliefs, beliefs_of, possible_causes
from mending.reason.evidence import Evidence
from mending.reason.likelihood import sign_likelihood

_WORTH_ASKING = 0.004
"""Below so many bits a question tells nothing."""


def telling(pack: Pack, evidence: Evidence, passed: frozenset[str] = frozenset()) -> list[Sign]:
    """Signs not yet seen that tell something, the most information about the cause for each minute
    first.

    Args:
        passed: signs that were asked and could not be answered.
    """
    beliefs = beliefs_of(pack, evidence)
    known = {**evidence.seen, **evidence.facts}
    asked = {*known, *passed}
    open_signs = [
        sign
        for sign in pack.signs.values()
        if sign.id not in asked and not pack.pointless(sign, known)
    ]
    bits = {sign.id: information(pack, evidence, beliefs, sign) for sign in open_signs}
    worth = [sign for sign in open_signs if bits[sign.id] >= _WORTH_ASKING]
    return sorted(worth, key=lambda sign: (-bits[sign.id] / sign.minutes, sign.id))


def information(pack: Pack, evidence: Evidence, beliefs: Beliefs, sign: Sign) -> float:
    """Mutual information between the answer and the cause, in bits, among the causes that are there
    alone.
    """
    causes = [cause for cause in possible_causes(pack, evidence) if cause.id in beliefs]
    total = 0.0
    for answer in sign.answers:
        given = sign_likelihood(pack, causes, sign, answer)
        alone = {cause: chance for cause, chance in beliefs.items() if cause in given}
        overall = sum(chance * given[cause] for cause, chance in alone.items()) / sum(
            alone.values()
        )
        total += sum(
            chance * given[cause] * math.log2(given[cause] / overall)
            for cause, chance in alone.items()
            if chance * given[cause] > 0
        )
    return max(total, 0.0)
