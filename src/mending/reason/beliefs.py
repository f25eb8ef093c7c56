"""Causes by Bayes' rule, one fault at a time unless findings prove several, each with what speaks
for and against it.

P(cause | evidence) is proportional to prior x product of P(item | cause); items are taken as
independent given the cause (naive Bayes; Pearl, "Probabilistic Reasoning in Intelligent Systems",
1988, section 2.1). The weight of an item is the natural logarithm of P(item | cause) / P(item), so
weights of one cause add up.
"""

import math
from collections.abc import Mapping, Sequence
from itertools import combinations

import msgspec

from mending.knowledge import SOMETHING_ELSE, TOGETHER, Answer, Cause, Pack, Sign
from mending.model import Phase
from mending.reason.likelihood import SOMETHING_ELSE_WEIGHT, Evidence, Item, items, sign_likelihood
from mending.reason.reach import WRONG_ANSWER, possible_phases

# Evidence that does not go together.
#
# Let the lift of a piece under a cause be P(piece | cause) / P(piece). Two pieces are in conflict
# where the best cause of each on its own lifts it far, and no cause lifts both: the product of the
# two highest lifts, over the highest product under one cause, is large. It is the likelihood ratio
# of two causes against one. Then a piece is mistaken, or there are two faults.


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


PROVEN = 0.97
"""Chance that what fatal findings show is all that keeps the PC from starting."""
_MOST_TOGETHER = 5
_TELLING = 0.05
"""Weights nearer to zero than this say nothing."""

Beliefs = Mapping[str, float]
"""Probability by cause, `something-else` among them; adds up to 1."""


class EvidenceWeight(msgspec.Struct, frozen=True):
    """One piece of evidence and how much it speaks for (above 0) or against a cause, in nats."""

    evidence: str
    weight: float


class CauseResult(msgspec.Struct, frozen=True, kw_only=True, rename={"for_": "for"}):
    """One cause with its chance, and the evidence in order of weight.

    Attributes:
        chance: that it is there, alone or together with others.
        proven: whether a fatal finding shows it.
    """

    id: str
    phase: Phase
    says: str
    chance: float
    proven: bool = False
    for_: tuple[EvidenceWeight, ...]
    against: tuple[EvidenceWeight, ...]


class CausesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="causes/1"):
    """Ranked causes.

    Attributes:
        something_else: the share that none of them explains.
        together: causes that are there at once: findings prove each of them. Empty unless there are
            two.
        together_chance: chance of that.
        contradictions: pieces of evidence that seldom go together, whatever the cause.
    """

    causes: tuple[CauseResult, ...]
    something_else: float
    together: tuple[str, ...] = ()
    together_chance: float = 0.0
    contradictions: tuple[Contradiction, ...] = ()

    @property
    def beliefs(self) -> Beliefs:
        """Chances by id, those of causes that are there together by their joined ids."""
        both = {TOGETHER.join(self.together): self.together_chance} if self.together else {}
        alone = {
            cause.id: cause.chance - self.together_chance * (cause.id in self.together)
            for cause in self.causes
        }
        return {**alone, **both, SOMETHING_ELSE: self.something_else}


def believe(pack: Pack, evidence: Evidence) -> CausesResult:
    """Rank the causes that fit the family of the PC, likeliest first. What a fatal finding proves
    is proven.
    """
    causes = possible_causes(pack, evidence)
    told = items(pack, causes, evidence)
    prior = prior_of(pack, causes, evidence.facts)
    proven = proven_by(causes, evidence)
    together = tuple(proven) if len(proven) > 1 else ()
    after = _with_proven(_posterior(prior, told), proven)
    both = PROVEN if together else 0.0
    chances = {cause.id: after[cause.id] + both * (cause.id in together) for cause in causes}
    ranked = sorted(causes, key=lambda cause: (-chances[cause.id], cause.phase.rank, cause.id))
    overall = [_overall(prior, item) for item in told]
    return CausesResult(
        causes=tuple(
            _result(cause, chances[cause.id], cause.id in proven, told, overall) for cause in ranked
        ),
        something_else=after[SOMETHING_ELSE],
        together=together,
        together_chance=both,
        contradictions=contradictions(prior, told),
    )


def beliefs_of(pack: Pack, evidence: Evidence) -> Beliefs:
    """The same chances as `believe(pack, evidence).beliefs`, without what speaks for and against
    them: for comparing what could be known.
    """
    causes = possible_causes(pack, evidence)
    prior = prior_of(pack, causes, evidence.facts)
    proven = proven_by(causes, evidence)
    after = _with_proven(_posterior(prior, items(pack, causes, evidence)), proven)
    return {**after, TOGETHER.join(proven): PROVEN} if len(proven) > 1 else after


def proven_by(causes: list[Cause], evidence: Evidence) -> list[str]:
    """The causes that fatal findings of the newest trace show, in the order of the findings."""
    fatal = evidence.trace.fatal if evidence.trace is not None else ()
    found = [cause.id for finding in fatal for cause in causes if finding.id in cause.proved_by]
    return list(dict.fromkeys(found))[:_MOST_TOGETHER]


def _with_proven(after: Mapping[str, float], proven: list[str]) -> dict[str, float]:
    """What is left for single causes when findings prove one, or several at once."""
    if not proven:
        return dict(after)
    alone = proven[0] if len(proven) == 1 else None
    rest = sum(chance for cause, chance in after.items() if cause not in proven) or 1.0
    others = {
        cause: 0.0 if cause in proven else (1.0 - PROVEN) * chance / rest
        for cause, chance in after.items()
    }
    return {**others, alone: PROVEN} if alone else others


def possible_causes(pack: Pack, evidence: Evidence) -> list[Cause]:
    """The causes that can strike this family of systems; all of them where it is unknown."""
    family = evidence.facts.get("family")
    return [
        cause
        for cause in pack.causes.values()
        if not (family and cause.families) or family in cause.families
    ]


def prior_of(pack: Pack, causes: list[Cause], facts: Mapping[str, str]) -> dict[str, float]:
    """Chances before any evidence: how often each cause is met, given family, age, history and the
    like.
    """
    weights = {cause.id: pack.grades.weights[cause.weight] for cause in causes}
    for cause in causes:
        for fact, odds in cause.likelier.items():
            if facts.get(fact) in odds:
                weights[cause.id] *= pack.grades.odds[odds[facts[fact]]]
    weights[SOMETHING_ELSE] = SOMETHING_ELSE_WEIGHT
    total = sum(weights.values())
    return {cause: weight / total for cause, weight in weights.items()}


def _posterior(prior: Mapping[str, float], told: list[Item]) -> dict[str, float]:
    logs = {
        cause: math.log(chance) + sum(math.log(item.given[cause]) for item in told)
        for cause, chance in prior.items()
    }
    top = max(logs.values())
    scaled = {cause: math.exp(value - top) for cause, value in logs.items()}
    total = sum(scaled.values())
    return {cause: value / total for cause, value in scaled.items()}


def _result(
    cause: Cause, chance: float, proven: bool, told: list[Item], overall: list[float]
) -> CauseResult:
    weights = [
        EvidenceWeight(item.says, round(math.log(item.given[cause.id] / usual), 3))
        for item, usual in zip(told, overall, strict=True)
    ]
    return CauseResult(
        id=cause.id,
        phase=cause.phase,
        says=cause.says,
        chance=chance,
        proven=proven,
        for_=tuple(
            sorted(
                (weight for weight in weights if weight.weight > _TELLING),
                key=lambda weight: -weight.weight,
            )
        ),
        against=tuple(
            sorted(
                (weight for weight in weights if weight.weight < -_TELLING),
                key=lambda weight: weight.weight,
            )
        ),
    )


def _overall(prior: Mapping[str, float], item: Item) -> float:
    """P(item), whatever the cause."""
    return sum(chance * item.given[cause] for cause, chance in prior.items())


# Which questions tell most about the cause.


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
