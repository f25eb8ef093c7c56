"""Results as tables. The only room that prints."""

from mending.cli.show.cases import show_case, show_cases, show_signs
from mending.cli.show.codes import show_code
from mending.cli.show.console import emit, named_target, say
from mending.cli.show.crashes import show_crashes
from mending.cli.show.files import show_files
from mending.cli.show.rehearsals import show_rehearsal
from mending.cli.show.repairs import maps_of, show_mend, show_mend_all, show_points
from mending.cli.show.searches import show_search
from mending.cli.show.thinking import question_pays, show_causes, show_plan, show_question, show_why
from mending.cli.show.traces import show_trace

__all__ = [
    "emit",
    "maps_of",
    "named_target",
    "question_pays",
    "say",
    "show_case",
    "show_cases",
    "show_causes",
    "show_code",
    "show_crashes",
    "show_files",
    "show_mend",
    "show_mend_all",
    "show_plan",
    "show_points",
    "show_question",
    "show_rehearsal",
    "show_search",
    "show_signs",
    "show_trace",
    "show_why",
]
