"""The case folder: one PC with one trouble, and one function for each thing a person does with
it.
"""

from mending.case.closing import closed, reopened, to_put_back
from mending.case.folder import (
    Case,
    crash_files,
    is_case,
    list_cases,
    load_case,
    open_case,
    refuse_closed,
)
from mending.case.results import CaseResult, CasesResult, case_result, cases_result
from mending.case.thinking import causes_of, plan_of, question_of, why_of
from mending.case.work import (
    add_evidence,
    heard,
    learn,
    learned,
    listened,
    mended,
    put_back,
    records_read,
    saw,
    start_taken_back,
    started,
    traced,
    tried,
    tried_taken_back,
)

__all__ = [
    "Case",
    "CaseResult",
    "CasesResult",
    "add_evidence",
    "case_result",
    "cases_result",
    "causes_of",
    "closed",
    "crash_files",
    "heard",
    "is_case",
    "learn",
    "learned",
    "list_cases",
    "listened",
    "load_case",
    "mended",
    "open_case",
    "plan_of",
    "put_back",
    "question_of",
    "records_read",
    "refuse_closed",
    "reopened",
    "saw",
    "start_taken_back",
    "started",
    "to_put_back",
    "traced",
    "tried",
    "tried_taken_back",
    "why_of",
]
