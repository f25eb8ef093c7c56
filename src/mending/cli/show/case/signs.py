"""Signs and their answers as a person reads them."""

from collections.abc import Iterable

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, rows, text, title
from mending.knowledge import Sign


def show_signs(signs: Iterable[Sign], by_heading: bool = False) -> RenderableType:
    """Every sign with its answers; under what they are about, where that is wanted."""
    parts: list[RenderableType] = []
    heading = ""
    for sign in signs:
        if by_heading and sign.about != heading:
            heading = sign.about
            parts += (
                [text(""), text(heading.upper(), "bold")]
                if parts
                else [text(heading.upper(), "bold")]
            )
        cells = [(f"{sign.id}={name}", answer.says) for name, answer in sign.answers.items()]
        parts += [title(sign.asks), indented(rows(cells))]
    return Group(*parts, text("Answer `unknown` where nobody can tell.", "soft"))
