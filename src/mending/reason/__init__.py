"""From findings and signs to causes, and to the question that tells most."""

from mending.reason.asking import QuestionResult, best_question
from mending.reason.beliefs import Beliefs, CauseResult, CausesResult, EvidenceWeight, believe
from mending.reason.evidence import Evidence, Report, ReportKind

__all__ = [
    "Beliefs",
    "CauseResult",
    "CausesResult",
    "Evidence",
    "EvidenceWeight",
    "QuestionResult",
    "Report",
    "ReportKind",
    "believe",
    "best_question",
]
