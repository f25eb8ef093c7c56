"""The report page of a case, from results only."""

from mending.report.page import ReportInput, is_report, render_page

__all__ = ["ReportInput", "is_report", "render_page"]
