"""Cards: how a step is done by somebody who never did it.

A card is a row of `cards.toml`; what a step is, how one sees that it worked and how to undo it
stand in `steps.toml`. A pack of one's own adds cards in its shop's own words, which stand first:
there names and command lines of every day have their place, with places such as `{system-letter}`
that are filled from the case.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec

from mending.knowledge.steps import ReportKind, Step, Visit
from mending.model import Place

if TYPE_CHECKING:
    from mending.knowledge.schema import Pack

RELEASE = "release"
"""Under this name the release of the system is known, as its disk names it."""
LETTERS = ("system", "boot", "recovery", "stick", "disc", "older")
"""Roles of volumes whose letters a card can name."""
CASE = "CASE"
"""In texts: the case at hand, as the person named it."""
PLACES = {
    "case": CASE,
    **{f"{role}-letter": f"the letter of the {role} volume" for role in LETTERS},
}
"""What stands in braces in a card's text, and what it is where the case does not know it."""
_PLACE = re.compile(r"\{\{|\}\}|\{([^{}\n]*)\}?")
"""A place; a brace written twice is one that stands for itself."""
_MOST_TEXT = 20_000
"""Characters of a card's text."""
_EARLY, _LATE, _LEAST_LATE = 0.4, 3.0, 10.0
"""Shares of the usual minutes before which the end is suspiciously early, and after which it is
late; the latter never less than so many minutes.
"""


class Card(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How a step is done.

    Attributes:
        family: and `release`: for which systems it holds; empty: for all.
        do: the parts of the step, in their order.
        asks: what is asked on the way, and what to answer.
        keep: what must not be cut off or done. refused: what may be refused, and what then.
        command: the command of ours that does it.
        text: the shop's own words, line by line, with places in braces.
        own: it comes from a pack of one's own (not written in the file).
    """

    step: str
    family: str = ""
    release: str = ""
    do: tuple[str, ...] = ()
    asks: tuple[str, ...] = ()
    keep: str = ""
    refused: str = ""
    command: str = ""
    text: str = ""
    own: bool = False


class OwnWords(msgspec.Struct, frozen=True, kw_only=True):
    """A shop's own words about a step, with the places filled; `about`: for which systems."""

    about: str
    lines: tuple[str, ...]


class HowTo(msgspec.Struct, frozen=True, kw_only=True):
    """All that has to be known to do a step.

    Attributes:
        does: what it is. how: what to mind.
        stands: where it is done, and how one gets there.
        command: what does it for one, where Mending can.
        own: the shop's own words.
        earliest: and `latest`: minutes between which the end is expected.
        letters: by role the letter of a volume, where the case knows it.
        then: by report, what it means.
    """

    step: str
    does: str
    how: str
    stands: str
    command: str
    own: tuple[OwnWords, ...]
    do: tuple[str, ...]
    asks: tuple[str, ...]
    normal: str
    earliest: float
    latest: float
    keep: str
    refused: str
    tells: str
    letters: Mapping[str, str]
    then: Mapping[str, str]
    undone: str
    put_back: str


def how_to(
    pack: "Pack",
    step: Step,
    known: Mapping[str, str] = {},
    filled: Mapping[str, str] = {},
    place: Place | None = None,
) -> HowTo:
    """How a step is done.

    Args:
        known: facts about the PC; cards of another family or release are left out.
        filled: by name what stands for places in braces.
        place: where it is done; the step's own without it.
    """
    cards = [card for card in pack.cards if card.step == step.id and _fits(card, known)]
    base = next((card for card in cards if not card.own), Card(step=step.id))
    visit = pack.visits[place or step.place]
    return HowTo(
        step=step.id,
        does=step.does,
        how=step.how,
        stands=_stands(visit),
        command=base.command or _own_command(step),
        own=tuple(
            OwnWords(about=_about(card), lines=tuple(_fill(card.text, filled).splitlines()))
            for card in cards
            if card.own and card.text.strip()
        ),
        do=base.do or (_OURS if step.repair is not None else (step.how,)),
        asks=base.asks,
        normal=step.normal,
        earliest=round(step.takes * _EARLY),
        latest=round(max(step.takes * _LATE, _LEAST_LATE)),
        keep=base.keep,
        refused=base.refused,
        tells=step.worked_if,
        letters={role: filled[f"{role}-letter"] for role in LETTERS if f"{role}-letter" in filled},
        then={kind.value: _then(step, kind) for kind in step.fitting},
        undone=step.undone,
        put_back=step.put_back,
    )


_OURS = (
    "Put the drive on the bench, or start the PC from a stick with Mending on it, and attach it to"
    " the case: mending add CASE DISK",
    "Read what would be written and why; nothing is written before you say so.",
    "Confirm. An undo point is on the medium before the first byte changes, and the disk is traced"
    " again afterwards.",
)
"""How a step is done that is a repair of Mending's own."""
_THEN = {
    ReportKind.DONE: "make a test start; if it fails still, the plan goes on",
    ReportKind.MENDED: "make a test start; what a tool mends is not yet a PC that starts",
    ReportKind.NOT_MENDED: "say so; the plan goes on without it",
    ReportKind.NOT_RUN: "say why: refused, no-key, no-menu, no-time; the plan finds another way",
    ReportKind.NOTHING_WRONG: "what it tests is sound; the causes that it speaks against sink",
    ReportKind.FOUND: "write down every code; the causes that it names rise",
}
"""What comes after a report, where the step does not say it."""


def _then(step: Step, kind: ReportKind) -> str:
    """What a report means, and what comes next."""
    if kind is ReportKind.DONE and not step.fixes:
        return step.reports.get(kind, "go on with the step that it was needed for")
    return step.reports.get(kind, _THEN[kind])


def _fits(card: Card, known: Mapping[str, str]) -> bool:
    """Whether a card is for this PC, as far as family and release are known."""
    release = known.get(RELEASE, card.release).lower()
    is_release = card.release.lower() in release
    return is_release and (not card.family or known.get("family", card.family) == card.family)


def _about(card: Card) -> str:
    return ", ".join(part for part in (card.family, card.release) if part)


def _stands(visit: Visit) -> str:
    return f"{visit.place.value}: {visit.how}"


def _own_command(step: Step) -> str:
    return f"mending mend CASE {step.repair}" if step.repair is not None else ""


def _fill(text: str, filled: Mapping[str, str]) -> str:
    """A text with its places filled; what nobody knows is said in its place."""

    def said(found: "re.Match[str]") -> str:
        name = found[1]
        if name is None:
            return found[0][0]
        return filled.get(name, CASE if name == "case" else f"<{PLACES.get(name, '?')}>")

    return _PLACE.sub(said, text)


def card_faults(pack: "Pack", cards: Sequence[Card] | None = None) -> Iterator[str]:
    """What is wrong with cards (the pack's own, unless given), each with file, table and key."""
    families = set(pack.facts["family"].answers) if "family" in pack.facts else set()
    for card in pack.cards if cards is None else cards:
        where = f"cards.toml, card {card.step}"
        if card.step not in pack.steps:
            yield f"{where}: there is no step {card.step!r}."
        if card.family and card.family not in families:
            yield f"{where}, family: there is no family {card.family!r}."
        if len(card.text) > _MOST_TEXT:
            yield f"{where}, text: it has more than {_MOST_TEXT} characters."
        if not (card.do or card.text.strip() or card.command):
            yield f"{where}: it says nothing."
        yield from _text_faults(card, where)


def _text_faults(card: Card, where: str) -> Iterator[str]:
    for text in (card.text, *card.do, *card.asks, card.keep, card.refused, card.command):
        if any(not each.isprintable() and each not in "\n\t" for each in text):
            yield f"{where}: it holds characters that cannot be printed."
    for found in _PLACE.finditer(card.text):
        if found[1] is None:
            continue
        if not found[0].endswith("}"):
            yield f"{where}, text: the brace before {found[1][:20]!r} is not closed."
        elif found[1] not in PLACES:
            known = ", ".join(PLACES)
            yield f"{where}, text: there is no place {found[1][:40]!r}; there are {known}."


def lacking_cards(pack: "Pack") -> list[str]:
    """Steps without a card: neither three parts nor a command of ours."""
    told = {
        card.step for card in pack.cards if len(card.do) >= 3 or card.command or card.text.strip()
    }
    return [step.id for step in pack.steps.values() if step.repair is None and step.id not in told]
