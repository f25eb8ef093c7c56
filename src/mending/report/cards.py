"""How the steps of a plan are done, as parts of a report: one section for each step."""

from mending.knowledge import HowTo
from mending.report.document import Block, Pairs, Paragraph, Screen, Section, Table
from mending.report.material import Material, section


def how_it_is_done(given: Material) -> list[Section]:
    """A section for each step of the plan, none once the PC works."""
    if given.case.works or given.case.closed is not None:
        return []
    return [section(f"How: {card.step}", *_card(card)) for card in given.cards]


def _card(card: HowTo) -> list[Block]:
    blocks: list[Block] = [Paragraph(f"{card.does} {card.how}"), Paragraph(card.stands)]
    if card.command:
        blocks.append(Paragraph(f"Mending does it, with the disk on the bench: {card.command}"))
    blocks += [
        Screen(own.lines, f"In the shop's own words{f' ({own.about})' if own.about else ''}")
        for own in card.own
    ]
    parts = tuple((str(number), part) for number, part in enumerate(card.do, 1))
    blocks.append(Table(("", "part"), parts, (0,)))
    rows = [("asked", each) for each in card.asks]
    rows += [("normal", card.normal)] if card.normal else []
    rows.append(("minutes", f"the end comes after {card.earliest:g} to {card.latest:g}"))
    rows += [("careful", card.keep)] if card.keep else []
    rows += [("if refused", card.refused)] if card.refused else []
    rows.append(("it worked if", card.tells))
    rows += [(f"then, {report}", says) for report, says in card.then.items()]
    rows += [("to undo it", card.undone)] if card.undone else []
    return [*blocks, Pairs(tuple(rows))]
