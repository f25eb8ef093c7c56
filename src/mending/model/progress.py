"""How work tells how far it is."""

from collections.abc import Callable

Progress = Callable[[int, int], None]
"""Called with what is done and what there is in all, in the unit of the work."""


def silent(done: int, total: int) -> None:
    """Tell nobody."""
