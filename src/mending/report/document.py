"""A report as values: sections of paragraphs, lists, tables and pictures, however it is written.

Every string in it may come from evidence. `mapped` changes all of them at once, which is how names
are taken out.
"""

from collections.abc import Callable

import msgspec


class Paragraph(msgspec.Struct, frozen=True, tag="paragraph"):
    """A few sentences."""

    text: str


class Pairs(msgspec.Struct, frozen=True, tag="pairs"):
    """Names and what is known of them, in order."""

    rows: tuple[tuple[str, str], ...]


class Table(msgspec.Struct, frozen=True, tag="table"):
    """Rows of equal length under heads; `right` are columns of numbers."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    right: tuple[int, ...] = ()


class Ladder(msgspec.Struct, frozen=True, tag="ladder"):
    """The phases of starting: name, state, and what was checked there."""

    title: str
    rows: tuple[tuple[str, str, tuple[str, ...]], ...]


class Rungs(msgspec.Struct, frozen=True, tag="rungs"):
    """The same phases as a drawing: a rung for each, a column of states for each look at the
    disk.
    """

    titles: tuple[str, ...]
    rows: tuple[tuple[str, tuple[str, ...]], ...]


class Screen(msgspec.Struct, frozen=True, tag="screen"):
    """What stood on a screen, line by line, and what it is in words."""

    lines: tuple[str, ...]
    says: str


class Picture(msgspec.Struct, frozen=True, tag="picture"):
    """A drawing, SVG, and what it shows in words."""

    svg: str
    says: str


Block = Paragraph | Pairs | Table | Ladder | Rungs | Screen | Picture


class Section(msgspec.Struct, frozen=True):
    """A part with a title."""

    title: str
    blocks: tuple[Block, ...]


class HandOver(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="hand-over/1"):
    """A whole report.

    Attributes:
        reader: `user`, `technician` or `maker`.
        verdict: one sentence.
        made: when, as people write it; zone: of all times in it.
        mark: by which Mending, on this machine, knows a report of the same case again.
    """

    mark: str = ""
    reader: str
    case: str
    verdict: str
    made: str
    zone: str
    sections: tuple[Section, ...]


def mapped(report: HandOver, change: Callable[[str], str]) -> HandOver:
    """The same report with every string of its parts changed, those in drawings too."""
    return msgspec.structs.replace(
        report,
        case=change(report.case),
        verdict=change(report.verdict),
        sections=tuple(
            Section(part.title, tuple(_mapped(block, change) for block in part.blocks))
            for part in report.sections
        ),
    )


def _mapped(block: Block, change: Callable[[str], str]) -> Block:
    match block:
        case Paragraph():
            return Paragraph(change(block.text))
        case Pairs():
            return Pairs(tuple((name, change(value)) for name, value in block.rows))
        case Table():
            rows = tuple(tuple(change(cell) for cell in row) for row in block.rows)
            return Table(block.heads, rows, block.right)
        case Ladder():
            return Ladder(
                block.title,
                tuple(
                    (name, state, tuple(change(check) for check in checks))
                    for name, state, checks in block.rows
                ),
            )
        case Rungs():
            return block  # names of ours alone
        case Screen():
            return Screen(tuple(change(line) for line in block.lines), change(block.says))
        case Picture():
            return Picture(change(block.svg), block.says)
