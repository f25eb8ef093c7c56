"""The conversation of `work` as a person reads it."""

from rich.console import Group, RenderableType

from mending.case.guide import NOTES, Prompt, PromptKind, StepCard
from mending.cli.show.case.cards import show_parts
from mending.cli.show.console import indented, plain_id, rows, text, title
from mending.model import Risk

_STAKES = {
    Risk.NOTHING: "nothing",
    Risk.SETTINGS: "settings",
    Risk.PROGRAMS: "programs and settings; not personal files",
    Risk.FILES: "personal files: copy them first",
}
_CASE = "CASE"
"""In the knowledge's texts: the case at hand."""


def show_prompt(prompt: Prompt) -> RenderableType:
    """What is asked, and the answers."""
    parts: list[RenderableType] = [text(""), title(prompt.asks)]
    if prompt.answers:
        cells = [
            (str(number), name, says)
            for number, (name, says) in enumerate(prompt.answers.items(), 1)
        ]
        parts.append(indented(rows(cells, wide=2, right=(0,))))
    if prompt.usual:
        parts.append(text(f"  an empty line: {prompt.usual}", "soft"))
    if prompt.kind in {PromptKind.CAUSE, PromptKind.FIX, PromptKind.HAND_OVER}:
        parts.append(text("  or your own words", "soft"))
    return Group(*parts)


def show_card(card: StepCard, named: str) -> RenderableType:
    """All that has to be known to do a step. Args: named: the case, as the person named it."""
    parts: list[RenderableType] = [text("")]
    if card.way:
        parts += [title(f"Visit: {plain_id(card.place)}"), indented(text(card.way)), text("")]
    number = f"step {card.number} of {card.of}, " if card.of > 1 else ""
    helps = f", helps with a chance of {card.chance:.0%}" if card.chance >= 0.005 else ""
    parts.append(title(f"{card.step}  ({number}about {_span(card)}{helps})"))
    cells = [("what", card.does), ("how", card.how)]
    cells += [("why now", f"it {card.why}")] if card.why else []
    cells += [("at hand", "; ".join(card.at_hand))] if card.at_hand else []
    cells += [("at stake", _STAKES[card.stakes])]
    cells = [(name, says.replace(_CASE, named)) for name, says in cells]
    return Group(*parts, indented(rows(cells, wide=1)), show_parts(card.how_to, named))


def _span(card: StepCard) -> str:
    waits = f", {card.waits:g} of them by itself" if card.waits else ""
    return f"{card.minutes:g} min{waits}"


def show_explained(prompt: Prompt) -> RenderableType:
    """What `?` shows: how to answer, and what is understood everywhere."""
    cells = [(name, says) for name, says in NOTES.items()]
    told = [text(words) for words in prompt.explains]
    also = [text(f"Also: {', '.join(f'{name} ({says})' for name, says in prompt.also.items())}.")]
    return Group(
        indented(*told) if told else text("  Nothing more is known about this one."),
        *([indented(*also)] if prompt.also else []),
        text("At every prompt:", "soft"),
        indented(rows(cells, wide=1)),
    )


def clock_words(card: StepCard, minutes: float) -> str:
    """How long a step has run, against what is usual."""
    usual = f"about {card.minutes:g} min are usual"
    if card.normal:
        usual += f"; normal: {card.normal}"
    over = " (longer than usual; that alone is no failure)" if minutes > 2 * card.minutes else ""
    return f"{int(minutes)}:{int(minutes * 60) % 60:02d} so far, {usual}{over}"
