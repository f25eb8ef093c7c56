"""From findings and signs to causes, and to the questions that tell most about them."""

from mending.knowledge import ReportKind
from mending.reason.asking import telling
from mending.reason.beliefs import (
    Beliefs,
    CauseResult,
    CausesResult,
    EvidenceWeight,
    beliefs_of,
    believe,
)
from mending.reason.conflict import Contradiction, impossible_pairs
from mending.reason.evidence import Evidence, Report, Watched
from mending.reason.likelihood import mended_chance, sign_likelihood
from mending.reason.reach import AFTER_LOGO, answer_chances, excluded, last_phase
from mending.reason.statements import Statement, Understanding, UnderstoodAnswer
from mending.reason.tool_reports import report_of, tool_report
from mending.reason.tried_before import TriedBefore

__all__ = [
    "AFTER_LOGO",
    "Beliefs",
    "CauseResult",
    "CausesResult",
    "Contradiction",
    "Evidence",
    "EvidenceWeight",
    "Report",
    "ReportKind",
    "Statement",
    "TriedBefore",
    "Understanding",
    "UnderstoodAnswer",
    "Watched",
    "answer_chances",
    "beliefs_of",
    "believe",
    "excluded",
    "impossible_pairs",
    "last_phase",
    "mended_chance",
    "report_of",
    "sign_likelihood",
    "telling",
    "tool_report",
]
