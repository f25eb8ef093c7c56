"""Which question next. A simple rule for now: the most information about the cause per minute of asking."""

import math
from collections.abc import Mapping

import msgspec

from mending.knowledge import Pack, Sign
from mending.reason.beliefs import Beliefs, believe, possible_causes
from mending.reason.evidence import Evidence
from mending.reason.likelihood import sign_likelihood

_WORTH_ASKING = 0.01
"""Below a hundredth of a bit a question tells nothing."""


class QuestionResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="question/1"):
    """The most telling question; `sign` is None when none is worth asking.

    Attributes:
        bits: expected information about the cause.
    """

    sign: str | None
    asks: str
    answers: Mapping[str, str]
    minutes: float
    bits: float


def best_question(pack: Pack, evidence: Evidence, passed: frozenset[str] = frozenset()) -> QuestionResult:
    """The sign not yet seen whose answer tells most about the cause for each minute.

    Args:
        passed: signs that were asked and could not be answered.
    """
    beliefs = believe(pack, evidence).beliefs
    open_signs = [sign for sign in pack.signs.values() if sign.id not in evidence.seen and sign.id not in passed]
    ranked = sorted(((information(pack, evidence, beliefs, sign), sign) for sign in open_signs), key=_per_minute)
    if not ranked or ranked[-1][0] < _WORTH_ASKING:
        return QuestionResult(sign=None, asks="", answers={}, minutes=0.0, bits=0.0)
    bits, sign = ranked[-1]
    answers = {name: answer.says for name, answer in sign.answers.items()}
    return QuestionResult(sign=sign.id, asks=sign.asks, answers=answers, minutes=sign.minutes, bits=bits)


def information(pack: Pack, evidence: Evidence, beliefs: Beliefs, sign: Sign) -> float:
    """Mutual information between the answer and the cause, in bits."""
    causes = possible_causes(pack, evidence)
    total = 0.0
    for answer in sign.answers:
        given = sign_likelihood(pack, causes, sign, answer)
        overall = sum(chance * given[cause] for cause, chance in beliefs.items())
        total += sum(
            chance * given[cause] * math.log2(given[cause] / overall)
            for cause, chance in beliefs.items()
            if chance * given[cause] > 0
        )
    return max(total, 0.0)


def _per_minute(ranked: tuple[float, Sign]) -> tuple[float, str]:
    return ranked[0] / ranked[1].minutes, ranked[1].id
