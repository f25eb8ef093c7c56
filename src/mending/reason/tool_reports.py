"""What a tool says, in the words of whoever passes it on, as the report of the step under way."""

import re

from mending.knowledge import Pack, ReportKind, Step, ToolReport

_ALIKE = {
    ReportKind.FOUND: ReportKind.NOT_MENDED,
    ReportKind.NOT_MENDED: ReportKind.FOUND,
    ReportKind.MENDED: ReportKind.DONE,
    ReportKind.DONE: ReportKind.MENDED,
    ReportKind.NOTHING_WRONG: ReportKind.DONE,
}
"""What a report stands for where a step does not have it."""


def tool_report(pack: Pack, text: str) -> ToolReport | None:
    """The first row whose pattern is in a text; None where no tool speaks so."""
    rows = pack.tool_reports.values()
    return next((row for row in rows if re.search(row.pattern, text, re.IGNORECASE)), None)


def report_of(step: Step, row: ToolReport) -> ReportKind | None:
    """What a step reported so, among the reports that fit it; None: it is no report of it."""
    if row.report is None or row.report in step.fitting:
        return row.report
    alike = _ALIKE.get(row.report)
    return alike if alike in step.fitting else None
