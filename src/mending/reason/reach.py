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

from collections.abc import Iterable, Mapping

import msgspec

from mending.knowledge import Answer, Cause, Pack, Sign
from mending.model import PHASES, Phase

AFTER_LOGO = "after-logo"
"""The sign of what the screen shows: of it several answers may be true, one after the other."""
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


def excluded(cause: Cause, sign: Sign, answer: str) -> bool:
    """Whether an answer, if it is right, rules a cause out."""
    return _excluded(cause.shows.get(sign.id, {}), cause.shares, sign, answer)


def _excluded(
    shows: Mapping[str, str], shares: Mapping[Phase, float], sign: Sign, answer: str
) -> bool:
    row = sign.answers[answer]
    named = answer in shows or row.part_of in shows
    return not named and _share_possible(shares, row) <= 0.0


def _share_possible(shares: Mapping[Phase, float], answer: Answer) -> float:
    """How large a part of what a cause does goes with an answer, from 0 to 1."""
    possible = possible_phases(answer)
    if possible is PHASES:
        return 1.0
    return sum(shares.get(phase, 0.0) for phase in possible)


class _Row(msgspec.Struct, frozen=True):
    """One cause and one sign: P(answer | cause), and the same as evidence."""

    chances: Mapping[str, float]
    likely: Mapping[str, float]


class _Tables:
    """The chances of the pack that was asked about last, each worked out once: the same ones are
    asked for again and again.
    """

    def __init__(self, pack: Pack) -> None:
        self.pack = pack
        self.rows: dict[tuple[str, str], _Row] = {}
        self.usual: dict[str, _Row] = {}
        self.shares: dict[str, Mapping[Phase, float]] = {}
        self.bounded: dict[str, bool] = {}

    def row(self, cause: Cause | None, sign: Sign) -> _Row:
        """Without a cause as usual."""
        if sign.id not in self.usual:
            self.usual[sign.id] = _Row(sign.shares, sign.shares)
            self.bounded[sign.id] = any(
                possible_phases(answer) is not PHASES for answer in sign.answers.values()
            )
        if cause is None or not (self.bounded[sign.id] or sign.id in cause.shows):
            return self.usual[sign.id]
        key = cause.id, sign.id
        if key not in self.rows:
            self.rows[key] = self._made(cause, sign)
        return self.rows[key]

    def _made(self, cause: Cause, sign: Sign) -> _Row:
        if cause.id not in self.shares:
            self.shares[cause.id] = cause.shares
        shares, usual = self.shares[cause.id], self.usual[sign.id].chances
        shows = cause.shows.get(sign.id, {})
        named = _with_parts(
            {answer: self.pack.chance(grade) for answer, grade in shows.items()}, sign, usual
        )
        weights = {
            answer: share * _share_possible(shares, sign.answers[answer])
            for answer, share in usual.items()
            if answer not in named
        }
        left, total = max(1 - sum(named.values()), 0.0), sum(weights.values())
        rest = {answer: left * each / total if total else 0.0 for answer, each in weights.items()}
        chances, likely = {}, {}
        for answer, share in usual.items():
            if answer in weights and not weights[answer]:
                chances[answer] = likely[answer] = WRONG_ANSWER * share
            else:
                chances[answer] = named.get(answer, 0.0) or rest.get(answer, 0.0)
                likely[answer] = (1 - SMOOTHING) * chances[answer] + SMOOTHING * share
        return _Row(chances, likely)


def _with_parts(
    named: Mapping[str, float], sign: Sign, usual: Mapping[str, float]
) -> dict[str, float]:
    """What a row of a cause names, where an answer is also part of another: the row gives the
    chance of both together, and the part takes its usual share of that.
    """
    found = dict(named)
    for answer, row in sign.answers.items():
        if row.part_of in named and answer not in named:
            both = usual[answer] + usual[row.part_of]
            found[answer] = named[row.part_of] * usual[answer] / both
            found[row.part_of] -= found[answer]
    return found


_tables: list[_Tables] = []


def _tables_of(pack: Pack) -> _Tables:
    if not _tables or _tables[0].pack is not pack:
        _tables[:] = [_Tables(pack)]
    return _tables[0]


def answer_chances(pack: Pack, cause: Cause | None, sign: Sign) -> Mapping[str, float]:
    """P(answer | cause) for each answer to a sign; without a cause as usual."""
    return _tables_of(pack).row(cause, sign).chances


def likelihoods(pack: Pack, causes: Iterable[Cause], sign: Sign, answer: str) -> dict[str, float]:
    """P(answer | cause) as evidence, by cause: mixed with what is usual where the cause is not
    excluded.
    """
    tables = _tables_of(pack)
    return {cause.id: tables.row(cause, sign).likely[answer] for cause in causes}
