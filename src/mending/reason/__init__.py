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
from mending.reason.volume_list import ListedVolume, read_listing
from mending.reason.volume_roles import ROLES, VolumeRole, VolumesResult, judge_volumes, size_words

__all__ = [
    "AFTER_LOGO",
    "ROLES",
    "Beliefs",
    "CauseResult",
    "CausesResult",
    "Contradiction",
    "Evidence",
    "EvidenceWeight",
    "ListedVolume",
    "Report",
    "ReportKind",
    "Statement",
    "TriedBefore",
    "Understanding",
    "UnderstoodAnswer",
    "VolumeRole",
    "VolumesResult",
    "Watched",
    "answer_chances",
    "beliefs_of",
    "believe",
    "excluded",
    "impossible_pairs",
    "judge_volumes",
    "last_phase",
    "mended_chance",
    "read_listing",
    "report_of",
    "sign_likelihood",
    "size_words",
    "telling",
    "tool_report",
]
