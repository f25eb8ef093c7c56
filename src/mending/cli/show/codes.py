"""Codes and messages as sentences."""

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, plain_id, rows, text, title
from mending.crash.lookup import CodeMatch, CodeResult

_SURE = {"certain": "good", "likely": "doubt", "possible": "soft"}


def show_code(result: CodeResult) -> RenderableType:
    """Each reading: what it means, what its numbers say, where to look first, and how sure the
    reading is.
    """
    if not result.matches:
        return text(
            "Nothing in this text is known. A stop code, its name or a message word for word would"
            " help."
        )
    return Group(*(part for match in result.matches for part in (*_reading(match), text(""))))


def _reading(match: CodeMatch) -> list[RenderableType]:
    head = f"{match.code}  {match.name}" if match.code else f"message of {match.name}"
    phase = [text(f"The start fails in the phase {plain_id(match.phase)}.")] if match.phase else []
    numbers = [
        (f"{each.number}.", each.value, each.means or "not known for certain")
        for each in match.parameters
    ]
    parts: list[RenderableType] = [title(head), indented(text(match.says), *phase)]
    parts += [indented(rows(numbers, ("its", "number", "means"), wide=2))] if numbers else []
    looks = [(f"{number}.", sentence) for number, sentence in enumerate(match.look_first, 1)]
    parts += [indented(text("look first at"), rows(looks))]
    sure = f"{match.confidence}: {match.because}; from {match.source}"
    return [*parts, indented(text(sure, _SURE[match.confidence]))]
