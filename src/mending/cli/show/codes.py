"""Codes and messages as sentences."""

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, plain_id, rows, text, title
from mending.crash import CodeMatch, CodeResult

_SURE = {"certain": "green", "likely": "magenta", "possible": "dim"}


def show_code(result: CodeResult) -> RenderableType:
    """Each reading: what it means, what its numbers say, where to look first, and how sure the reading is."""
    if not result.matches:
        return text("Nothing in this text is known. A stop code, its name or a message word for word would help.")
    return Group(*(part for one in result.matches for part in (*_reading(one), text(""))))


def _reading(one: CodeMatch) -> list[RenderableType]:
    head = f"{one.code}  {one.name}" if one.code else f"message of {one.name}"
    phase = [text(f"The start fails in the phase {plain_id(one.phase)}.")] if one.phase else []
    numbers = [(f"{each.number}.", each.value, each.means or "not known for certain") for each in one.parameters]
    parts: list[RenderableType] = [title(head), indented(text(one.says), *phase)]
    parts += [indented(rows(numbers, ("its", "number", "means"), wide=2))] if numbers else []
    looks = [(f"{number}.", sentence) for number, sentence in enumerate(one.look_first, 1)]
    parts += [indented(text("look first at"), rows(looks))]
    sure = f"{one.sureness}: {one.because}; from {one.source}"
    return [*parts, indented(text(sure, _SURE[one.sureness]))]
