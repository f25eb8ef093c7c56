"""Mending finds out why a PC does not start, plans the cheapest safe repair, does the offline part
and proves it.
"""

__version__ = "0.1.0"
