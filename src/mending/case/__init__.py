"""The case folder: one PC with one trouble, and one function for each thing a person does with
it.
"""

from mending.case import closing
from mending.case.doubts import doubts_of
from mending.case.folder import (
    Case,
    check_new_name,
    crash_files,
    is_case,
    list_cases,
    load_case,
    open_case,
)
from mending.case.results import CaseResult, CasesResult, case_result, cases_result
from mending.case.thinking import causes_of, open_questions, plan_of, question_of, why_of
from mending.case.work import (
    DISK,
    FURTHER_DISK,
    VARIABLES,
    DiskKnown,
    add_evidence,
    evidence_sort,
    heard,
    learn,
    learned,
    listened,
    mended,
    named_disk,
    put_back,
    records_read,
    saw,
    started,
    taken_back,
    traced,
    tried,
)

__all__ = [
    "DISK",
    "FURTHER_DISK",
    "VARIABLES",
    "Case",
    "CaseResult",
    "CasesResult",
    "DiskKnown",
    "add_evidence",
    "case_result",
    "cases_result",
    "causes_of",
    "check_new_name",
    "closing",
    "crash_files",
    "doubts_of",
    "evidence_sort",
    "heard",
    "is_case",
    "learn",
    "learned",
    "list_cases",
    "listened",
    "load_case",
    "mended",
    "named_disk",
    "open_case",
    "open_questions",
    "plan_of",
    "put_back",
    "question_of",
    "records_read",
    "saw",
    "started",
    "taken_back",
    "traced",
    "tried",
    "why_of",
]
