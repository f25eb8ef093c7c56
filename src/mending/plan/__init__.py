"""What to do next: visits and their order, from beliefs, costs and needs."""

from mending.plan.options import Option, Situation, VisitCost, options_from, visit_costs
from mending.plan.order import Care, make_plan
from mending.plan.results import BlockedResult, PlanResult, StepResult, VisitResult
from mending.plan.why import WhyResult, why_there

__all__ = [
    "BlockedResult",
    "Care",
    "Option",
    "PlanResult",
    "Situation",
    "StepResult",
    "VisitCost",
    "VisitResult",
    "WhyResult",
    "make_plan",
    "options_from",
    "visit_costs",
    "why_there",
]
