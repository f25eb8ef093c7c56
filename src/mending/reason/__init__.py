"""From findings and signs to causes, and to the questions that tell most about them."""

from mending.knowledge import ReportKind
from mending.reason.beliefs import (
    Beliefs,
    CauseResult,
    CausesResult,
    Contradiction,
    EvidenceWeight,
    beliefs_of,
    believe,
    impossible_pairs,
    telling,
)
from mending.reason.likelihood import (
    Evidence,
    Report,
    Watched,
    mended_chance,
    report_of,
    sign_likelihood,
    tool_report,
)
from mending.reason.reach import AFTER_LOGO, answer_chances, excluded, last_phase
from mending.reason.statements import Statement, TriedBefore, Understanding, UnderstoodAnswer
from mending.reason.volumes import (
    ROLES,
    ListedVolume,
    VolumeRole,
    VolumesResult,
    judge_volumes,
    read_listing,
    size_words,
)

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
