"""What to do next: visits and their order, from beliefs, costs and needs."""

from mending.plan.asking import NO_QUESTION, QuestionResult, best_question
from mending.plan.options import (
    BACKUP,
    Named,
    Option,
    Situation,
    VisitCost,
    options_from,
    visit_costs,
)
from mending.plan.order import (
    Care,
    WhyResult,
    dearer_steps,
    direct_fixes,
    make_plan,
    quick_cost,
    resorts_of,
    why_there,
)
from mending.plan.results import (
    BlockedResult,
    CurvePoint,
    DearerResult,
    PlanResult,
    ResortResult,
    ResortStep,
    StepResult,
    VisitResult,
)

__all__ = [
    "BACKUP",
    "NO_QUESTION",
    "BlockedResult",
    "Care",
    "CurvePoint",
    "DearerResult",
    "Named",
    "Option",
    "PlanResult",
    "QuestionResult",
    "ResortResult",
    "ResortStep",
    "Situation",
    "StepResult",
    "VisitCost",
    "VisitResult",
    "WhyResult",
    "best_question",
    "dearer_steps",
    "direct_fixes",
    "make_plan",
    "options_from",
    "quick_cost",
    "resorts_of",
    "visit_costs",
    "why_there",
]
