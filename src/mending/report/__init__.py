"""The report page of a case, and figures, from results only. Each is a front door of its own, so
that what shows a map loads no page.
"""
