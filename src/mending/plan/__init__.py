"""What to do next: visits and their order, from beliefs, costs and needs."""

from mending.plan.options import Option, Situation, VisitCost, options_from, visit_costs
from mending.plan.order import make_plan
from mending.plan.results import BlockedResult, PlanResult, StepResult, VisitResult

__all__ = [
    "BlockedResult",
    "Option",
    "PlanResult",
    "Situation",
    "StepResult",
    "VisitCost",
    "VisitResult",
    "make_plan",
    "options_from",
    "visit_costs",
]
