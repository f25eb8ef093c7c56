"""Which question next: the one whose answer saves most expected minutes of plan for each minute of
asking.

The value of information (Howard, "Information value theory", IEEE Transactions on Systems Science
and Cybernetics 2, 1966): what the best plan costs now, less what the best plans cost on average
once the answer is known.
"""

from collections.abc import Callable, Mapping
from itertools import chain

import msgspec

from mending.knowledge import Pack, Sign
from mending.reason import Evidence, beliefs_of, sign_likelihood, telling

_LOOKED_AT = 5
"""Signs whose worth is worked out in minutes: those that tell most about the cause for each
minute.
"""
_LIKELY = 0.1
"""Chance from which it is asked what the steps against a cause need."""
_RARE = 0.005
"""Chance below which an answer is taken to save nothing, without making a plan for it."""
_CANNOT_TELL = 0.1
"""How often a person cannot answer."""
_PAYS = 1.0
"""A question is asked while its answer saves more than its own minutes, times this."""

Cost = Callable[[Evidence], float]
"""What the best plan costs, given what is known."""


class QuestionResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="question/1"
):
    """The question that pays most; `sign` is None when none is worth its minutes.

    Attributes:
        sign: name of the sign or fact. fact: whether it is a fact.
        minutes: what asking costs. saves: expected minutes of plan that the answer saves.
    """

    sign: str | None
    asks: str
    answers: Mapping[str, str]
    minutes: float
    saves: float
    fact: bool = False


NO_QUESTION = QuestionResult(sign=None, asks="", answers={}, minutes=0.0, saves=0.0)


def best_question(
    pack: Pack, evidence: Evidence, cost: Cost, passed: frozenset[str] = frozenset()
) -> QuestionResult:
    """The sign or fact not yet known whose answer saves most for each minute.

    Args:
        cost: of the best plan; asked a few times for each question that is looked at.
        passed: signs and facts that were asked and could not be answered.
    """
    looked_at = [
        *telling(pack, evidence, passed)[:_LOOKED_AT],
        *_open_facts(pack, evidence, passed),
    ]
    now = cost(evidence)
    ranked = [(_saves(pack, evidence, cost, now, sign), sign) for sign in looked_at]
    worth = [(saves, sign) for saves, sign in ranked if saves > _PAYS * sign.minutes]
    if not worth:
        return NO_QUESTION
    saves, sign = max(worth, key=lambda row: (row[0] / row[1].minutes, row[1].id))
    answers = {name: answer.says for name, answer in sign.answers.items()}
    return QuestionResult(
        sign=sign.id,
        asks=sign.asks,
        answers=answers,
        minutes=sign.minutes,
        saves=round(saves, 1),
        fact=sign.id in pack.facts,
    )


def _open_facts(pack: Pack, evidence: Evidence, passed: frozenset[str]) -> list[Sign]:
    """Facts that nobody told and that steps which could help need."""
    likely = {cause for cause, chance in beliefs_of(pack, evidence).items() if chance >= _LIKELY}
    wanted: dict[str, int] = {}
    for step in pack.steps.values():
        if likely & set(step.fixes):
            places = [pack.visits[place].needs for place in (step.place, *step.also)]
            for name in chain(step.needs, *places):
                wanted[name] = wanted.get(name, 0) + 1
    known = {*evidence.facts, *passed}
    names = sorted(
        (name for name in wanted if name in pack.facts and name not in known),
        key=lambda text: -wanted[text],
    )
    return [pack.facts[name] for name in names[: _LOOKED_AT // 2]]


def _saves(pack: Pack, evidence: Evidence, cost: Cost, now: float, sign: Sign) -> float:
    beliefs, shares = beliefs_of(pack, evidence), sign.shares
    then = 0.0
    for answer in sign.answers:
        usual = shares[answer]
        if sign.id in pack.facts:
            chance, known = usual, {**evidence.facts, sign.id: answer}
            after = msgspec.structs.replace(evidence, facts=known)
        else:
            given = sign_likelihood(pack, pack.causes.values(), sign, answer)
            chance = sum(share * given.get(cause, usual) for cause, share in beliefs.items())
            seen = {**evidence.seen, sign.id: answer}
            after = msgspec.structs.replace(evidence, seen=seen)
        then += chance * (cost(after) if chance >= _RARE else now)
    return (1.0 - _CANNOT_TELL) * (now - then)
