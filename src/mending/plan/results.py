"""The document that a plan is, as `docs/json.md` describes it."""

from collections.abc import Mapping

import msgspec

from mending.knowledge import HowTo
from mending.model import Place, Risk


class StepResult(msgspec.Struct, frozen=True, kw_only=True):
    """One step of a visit.

    Attributes:
        chance: that it puts right what is wrong, or one of the things that are, if nothing before
            it helped.
        needs: facts still to be found out before it can be done.
        tests: whether its own report tells something about causes.
        leads_to: for each other cause that its report may name, the steps to go straight for then;
            the likeliest first.
    """

    id: str
    does: str
    minutes: float
    chance: float
    stakes: Risk
    needs: tuple[str, ...]
    repair: str | None
    why: str
    tests: bool = False
    leads_to: Mapping[str, str] = {}


class VisitResult(msgspec.Struct, frozen=True, kw_only=True):
    """The steps done in one place between two test starts. `minutes` is getting there and the test
    start; `at_hand` what has to be there before one goes, `beside` the steps of later visits that
    are begun meanwhile, on another PC.
    """

    place: Place
    how: str
    minutes: float
    steps: tuple[StepResult, ...]
    at_hand: tuple[str, ...] = ()
    beside: tuple[str, ...] = ()


class BlockedResult(msgspec.Struct, frozen=True, kw_only=True):
    """A step that could help but cannot be done, and what would allow it."""

    id: str
    chance: float
    says: str


class DearerResult(msgspec.Struct, frozen=True, kw_only=True):
    """A step that may help and costs more than handing over; it can be chosen all the same.

    Attributes:
        chance: that it mends after everything planned did not help; minutes: with the ways there
            and what it needs.
        visits: what there is to do for it, in order.
    """

    id: str
    does: str
    chance: float
    minutes: float
    stakes: Risk
    visits: tuple[VisitResult, ...]


class ResortStep(msgspec.Struct, frozen=True, kw_only=True):
    """A step of a last resort. `state` is `planned dearer open blocked tried`; `says`: what blocks
    it.
    """

    id: str
    state: str
    chance: float
    minutes: float
    says: str


class ResortResult(msgspec.Struct, frozen=True, kw_only=True):
    """A last resort, and its steps for this kind of PC."""

    id: str
    says: str
    steps: tuple[ResortStep, ...]


class CurvePoint(msgspec.Struct, frozen=True, kw_only=True):
    """Chance of a working PC by so many minutes."""

    minutes: float
    chance: float


class PlanResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="plan/1"):
    """The order of steps.

    Attributes:
        expected_minutes: until the PC works or the plan is at its end.
        chance_by: chance of a working PC by so many minutes; curve: the same at every point where
            it rises.
        cost: expected minutes with the prices of what is at stake and with handing over, which the
            plan keeps least.
        exact: whether this order is proved to be the best.
        dearer: steps that may help and are not planned, for handing over costs less.
        resorts: the last resorts, in the order in which they are taken.
        cards: how the steps are done, where that was asked for.
        gap: how far from the best it can be at most, as a share; None where nothing is proved.
    """

    visits: tuple[VisitResult, ...]
    blocked: tuple[BlockedResult, ...]
    expected_minutes: float
    chance_by: Mapping[str, float]
    curve: tuple[CurvePoint, ...] = ()
    cost: float = 0.0
    exact: bool
    gap: float | None
    dearer: tuple[DearerResult, ...] = ()
    resorts: tuple[ResortResult, ...] = ()
    cards: tuple[HowTo, ...] = ()

    @property
    def first(self) -> StepResult | None:
        """The step to do now."""
        return self.visits[0].steps[0] if self.visits else None
