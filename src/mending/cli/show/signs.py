"""Signs and their answers as a person reads them."""

from collections.abc import Iterable

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, rows, text, title
from mending.knowledge import Sign


def show_signs(signs: Iterable[Sign]) -> RenderableType:
    """Every sign with its answers."""
    parts: list[RenderableType] = []
    for sign in signs:
        cells = [(f"{sign.id}={name}", answer.says) for name, answer in sign.answers.items()]
        parts += [title(sign.asks), indented(rows(cells))]
    return Group(*parts, text("Answer `unknown` where nobody can tell.", "dim"))
