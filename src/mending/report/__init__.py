"""The report page of a case, and figures, from results only."""

from mending.report.disk_figure import check_figure_name, draw_disk
from mending.report.page import ReportInput, is_report, render_page
from mending.report.ribbon import Box, lay_out

__all__ = ["Box", "ReportInput", "check_figure_name", "draw_disk", "is_report", "lay_out", "render_page"]
