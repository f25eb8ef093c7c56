"""What cannot be is not believed: how likely an answer is under a cause, by how far the start gets.

A start is a chain of phases, and a cause stops it in one of them, or in several with shares that
add up to 1. An answer may say that the start gets at least to a phase, or that it does not get to
one. Let

    w(a, c) = sum of the shares of c over the phases in which a start that shows a may stop,
    u(a)    = how often a is heard over all PCs,
    e       = how often a person's answer is wrong.

An answer that the row of a cause names has the chance that the row gives it. The others share what
is left in proportion to u(a) w(a, c). As evidence it is mixed with the usual frequencies
(`SMOOTHING`), for nobody's table is so good that an answer is impossible. Where w(a, c) is 0 and
the row does not name the answer, nothing is left but the error:

    P(a | c) = e u(a).

Because e < `SMOOTHING`, no cause gives an answer a smaller chance than those that it excludes; so
an answer never raises a cause that it excludes (the posterior of c is multiplied by
P(a | c) / sum over all causes, which is at most 1). The tests check that.
"""

from collections.abc import Mapping

from mending.knowledge import Answer, Cause, Pack, Sign
from mending.model import PHASES, Phase

WRONG_ANSWER = 0.02
"""How often what a person answers is not so."""
SMOOTHING = 0.03
"""Share of every answer that follows the usual frequencies."""


def possible_phases(answer: Answer) -> tuple[Phase, ...]:
    """The phases in which a start that shows this may stop."""
    if answer.reaches is None and answer.stops_before is None:
        return PHASES
    first = answer.reaches.rank if answer.reaches is not None else 0
    end = answer.stops_before.rank if answer.stops_before is not None else len(PHASES)
    return PHASES[first:end]


def last_phase(pack: Pack, seen: Mapping[str, str]) -> Phase:
    """The last phase in which a start that shows all of this may stop."""
    last = PHASES[-1]
    for name, answer in seen.items():
        row = pack.signs[name].answers.get(answer) if name in pack.signs else None
        if row is not None:
            last = min(last, possible_phases(row)[-1], key=lambda phase: phase.rank)
    return last


def share_possible(cause: Cause, answer: Answer) -> float:
    """How large a part of what a cause does goes with an answer, from 0 to 1."""
    possible = possible_phases(answer)
    if possible is PHASES:
        return 1.0
    shares = cause.shares
    return sum(shares.get(phase, 0.0) for phase in possible)


def excluded(cause: Cause, sign: Sign, answer: str) -> bool:
    """Whether an answer, if it is right, rules a cause out."""
    named = answer in cause.shows.get(sign.id, {})
    return not named and share_possible(cause, sign.answers[answer]) <= 0.0


class _Tables:
    """The chances of the pack that was asked about last; the same few are asked for again and
    again.
    """

    def __init__(self, pack: Pack) -> None:
        self.pack = pack
        self.known: dict[tuple[str, str], dict[str, float]] = {}
        self.likely: dict[tuple[str, str, str], float] = {}


_tables: list[_Tables] = []


def _tables_of(pack: Pack) -> _Tables:
    if not _tables or _tables[0].pack is not pack:
        _tables[:] = [_Tables(pack)]
    return _tables[0]


def answer_chances(pack: Pack, cause: Cause | None, sign: Sign) -> Mapping[str, float]:
    """P(answer | cause) for each answer to a sign; without a cause as usual."""
    known, key = _tables_of(pack).known, (cause.id if cause is not None else "", sign.id)
    if key not in known:
        known[key] = sign.shares if cause is None else _answer_chances(pack, cause, sign)
    return known[key]


def _answer_chances(pack: Pack, cause: Cause, sign: Sign) -> dict[str, float]:
    usual = sign.shares
    named = {answer: pack.chance(grade) for answer, grade in cause.shows.get(sign.id, {}).items()}
    likely = {
        answer: share * share_possible(cause, sign.answers[answer])
        for answer, share in usual.items()
        if answer not in named
    }
    left, total = max(1 - sum(named.values()), 0.0), sum(likely.values())
    chances = {**named, **_shared(likely, left, total)}
    return {
        answer: WRONG_ANSWER * share if excluded(cause, sign, answer) else chances[answer]
        for answer, share in usual.items()
    }


def likelihood(pack: Pack, cause: Cause, sign: Sign, answer: str) -> float:
    """P(answer | cause) as evidence: mixed with what is usual where the cause is not excluded."""
    likely, key = _tables_of(pack).likely, (cause.id, sign.id, answer)
    if key not in likely:
        chance = answer_chances(pack, cause, sign)[answer]
        ruled_out = excluded(cause, sign, answer)
        likely[key] = chance if ruled_out else _mixed(chance, sign.shares[answer])
    return likely[key]


def _shared(likely: Mapping[str, float], left: float, total: float) -> dict[str, float]:
    return {answer: left * weight / total if total else 0.0 for answer, weight in likely.items()}


def _mixed(chance: float, usual: float) -> float:
    return (1 - SMOOTHING) * chance + SMOOTHING * usual
