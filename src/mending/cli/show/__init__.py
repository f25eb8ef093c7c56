"""Results as tables. The only room that prints. Each view is a front door of its own, so that a
command loads no more than it shows.
"""
