"""The report page of a case, and figures, from results only."""

from mending.report.disk_figure import check_figure_name, draw_disk
from mending.report.page import ReportInput, is_report, render_page
from mending.report.plan_figure import draw_plan
from mending.report.ribbon import Box, lay_out
from mending.report.timeline_figure import draw_timeline, timeline_svg

__all__ = [
    "Box",
    "ReportInput",
    "check_figure_name",
    "draw_disk",
    "draw_plan",
    "draw_timeline",
    "is_report",
    "lay_out",
    "render_page",
    "timeline_svg",
]
