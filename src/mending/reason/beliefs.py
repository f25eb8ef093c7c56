"""Causes by Bayes' rule, one fault at a time, each with what speaks for and against it.

P(cause | evidence) is proportional to prior x product of P(item | cause); items are taken as independent given the
cause (naive Bayes; Pearl, "Probabilistic Reasoning in Intelligent Systems", 1988, section 2.1). The weight of an item
is the natural logarithm of P(item | cause) / P(item), so weights of one cause add up.
"""

import math
from collections.abc import Mapping

import msgspec

from mending.knowledge import SOMETHING_ELSE, Cause, Pack
from mending.model import Phase
from mending.reason.evidence import Evidence
from mending.reason.likelihood import Item, items

SOMETHING_ELSE_WEIGHT = 3.0
"""Prior weight of everything that the pack does not know, on the scale of the grades' weights."""
_TELLING = 0.05
"""Weights nearer to zero than this say nothing."""

Beliefs = Mapping[str, float]
"""Probability by cause, `something-else` among them; adds up to 1."""


class EvidenceWeight(msgspec.Struct, frozen=True):
    """One piece of evidence and how much it speaks for (above 0) or against a cause, in nats."""

    evidence: str
    weight: float


class CauseResult(msgspec.Struct, frozen=True, kw_only=True, rename={"for_": "for"}):
    """One cause with its chance, and the evidence in order of weight."""

    id: str
    phase: Phase
    says: str
    chance: float
    for_: tuple[EvidenceWeight, ...]
    against: tuple[EvidenceWeight, ...]


class CausesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="causes/1"):
    """Ranked causes; `something_else` is the share that none of them explains."""

    causes: tuple[CauseResult, ...]
    something_else: float

    @property
    def beliefs(self) -> Beliefs:
        """Chances by id."""
        return {**{cause.id: cause.chance for cause in self.causes}, SOMETHING_ELSE: self.something_else}


def believe(pack: Pack, evidence: Evidence) -> CausesResult:
    """Rank the causes that fit the family of the PC, likeliest first."""
    causes = possible_causes(pack, evidence)
    told = items(pack, causes, evidence)
    prior = _prior(pack, causes)
    after = _posterior(prior, told)
    ranked = sorted(causes, key=lambda cause: (-after[cause.id], cause.phase.rank, cause.id))
    return CausesResult(
        causes=tuple(_result(cause, after[cause.id], prior, told) for cause in ranked),
        something_else=after[SOMETHING_ELSE],
    )


def possible_causes(pack: Pack, evidence: Evidence) -> list[Cause]:
    """The causes that can strike this family of systems; all of them where it is unknown."""
    family = evidence.facts.get("family")
    return [cause for cause in pack.causes.values() if not (family and cause.families) or family in cause.families]


def _prior(pack: Pack, causes: list[Cause]) -> dict[str, float]:
    weights = {cause.id: pack.grades.weights[cause.weight] for cause in causes} | {
        SOMETHING_ELSE: SOMETHING_ELSE_WEIGHT
    }
    total = sum(weights.values())
    return {cause: weight / total for cause, weight in weights.items()}


def _posterior(prior: Mapping[str, float], told: list[Item]) -> dict[str, float]:
    logs = {
        cause: math.log(chance) + sum(math.log(item.given[cause]) for item in told) for cause, chance in prior.items()
    }
    top = max(logs.values())
    scaled = {cause: math.exp(value - top) for cause, value in logs.items()}
    total = sum(scaled.values())
    return {cause: value / total for cause, value in scaled.items()}


def _result(cause: Cause, chance: float, prior: Mapping[str, float], told: list[Item]) -> CauseResult:
    weights = [EvidenceWeight(item.says, round(_weight(cause.id, prior, item), 3)) for item in told]
    return CauseResult(
        id=cause.id,
        phase=cause.phase,
        says=cause.says,
        chance=chance,
        for_=tuple(sorted((one for one in weights if one.weight > _TELLING), key=lambda one: -one.weight)),
        against=tuple(sorted((one for one in weights if one.weight < -_TELLING), key=lambda one: one.weight)),
    )


def _weight(cause: str, prior: Mapping[str, float], item: Item) -> float:
    overall = sum(chance * item.given[other] for other, chance in prior.items())
    return math.log(item.given[cause] / overall)
