"""From findings and signs to causes, and to the questions that tell most about them."""

from mending.knowledge import ReportKind
from mending.reason.asking import telling
from mending.reason.beliefs import Beliefs, CauseResult, CausesResult, EvidenceWeight, believe
from mending.reason.conflict import Contradiction
from mending.reason.evidence import Evidence, Report
from mending.reason.likelihood import sign_likelihood

__all__ = [
    "Beliefs",
    "CauseResult",
    "CausesResult",
    "Contradiction",
    "Evidence",
    "EvidenceWeight",
    "Report",
    "ReportKind",
    "believe",
    "sign_likelihood",
    "telling",
]
