"""What going back to an earlier moment of the settings would take and bring, in plain words."""

from mending.boot.settings.difference import compared
from mending.boot.settings.hive_set import HiveSet

_LOST = frozenset(
    {"driver", "service", "filter", "sign-in", "start-up", "program", "update", "device"}
)
_BACK = {
    "added": "would be gone",
    "removed": "would come back",
    "changed": "would be as it was",
}
_MOST_TOLD = 12


def losses_of(before: HiveSet, now: HiveSet) -> tuple[str, ...]:
    """The same; the start's own parts first.

    Args:
        before: the moment to go back to.
    """
    told = [change for change in compared(("", ""), before, now).changes if change.kind in _LOST]
    rest = len(told) - _MOST_TOLD
    more = [f"and {rest} more settings"] if rest > 0 else []
    return (*(f"{each.kind} {each.name} {_BACK[each.change]}" for each in told[:_MOST_TOLD]), *more)
