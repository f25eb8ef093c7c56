"""A listing of volumes, taken down and judged; of two alike the person says which one it is."""

from collections.abc import Mapping
from pathlib import Path
from typing import TextIO

import click

from mending.case import listed, load_case, volumes_of
from mending.cli.host import interactive, this_host
from mending.cli.show.case.cards import show_volumes
from mending.cli.show.console import emit, say
from mending.model import UsageError
from mending.reason import ROLES

_MOST = 1 << 16
"""Characters of a listing."""


def hear_volumes(
    case: str, listing: TextIO | None, chosen: Mapping[str, str], quiet: bool, as_json: bool
) -> None:
    """Record a listing, or which of its volumes somebody named, and show which is which.

    Raises:
        UsageError: it is no listing, or too long; nothing is recorded.
    """
    text = listing.read(_MOST + 1) if listing is not None else ""
    if len(text) > _MOST:
        raise UsageError("That is longer than any listing of volumes.", "Give the listing alone.")
    hand = this_host().hand
    known = load_case(Path(case))
    if listing is None and not known.state.listed:
        raise UsageError("There is no listing yet.", f"mending saw {case} --volumes -")
    known = listed(known, hand, text, chosen)
    result = volumes_of(known.state)
    assert result is not None
    if interactive() and not (quiet or as_json):
        while result.questions and any(result.questions.values()):
            role, names = next((role, names) for role, names in result.questions.items() if names)
            say(show_volumes(result, case))
            name = click.prompt(
                f"Which is {ROLES[role]}", type=click.Choice([*names, "later"]), err=True
            )
            if name == "later":
                break
            known = listed(known, hand, "", {role: name})
            result = volumes_of(known.state)
            assert result is not None
    emit(result, as_json, lambda volumes: show_volumes(volumes, case))
