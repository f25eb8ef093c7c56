"""A report as values: sections of paragraphs, lists, tables and pictures, however it is written.

Every string in it may come from evidence. `mapped` changes all of them at once, which is how names
are taken out.
"""

import re
import zlib
from collections.abc import Callable, Sequence
from datetime import datetime, tzinfo

import msgspec
from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from mending.model import clean_text


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


# A report as one self-contained HTML page: nothing is fetched, nothing runs.


_MARK = '<meta name="generator" content="mending report/1 {}">'
_STATES = {
    "passed": "✓",
    "failed": "✗",
    "doubtful": "?",
    "not reached": "-",
    "not checked": "○",
}
"""A mark beside each state, for whoever does not see colours."""
_NARROWEST = 40
"""Columns of a screen that shows little."""
_SVG = re.compile(r"<svg\b.*</svg>", re.DOTALL)
_IDS = re.compile(r"""(\bid="|url\(#|href="#)""")


def render_page(report: HandOver) -> str:
    """The page as text. All evidence is escaped and freed of control characters."""
    environment = Environment(
        loader=PackageLoader("mending.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_harmless,
    )
    environment.filters |= {"kind": _kind, "drawing": _drawing, "widest": _widest}
    template = environment.get_template("page.html.j2")
    return template.render(mark=Markup(_MARK).format(report.mark), report=report, marks=_STATES)


def _kind(block: Block) -> str:
    return type(block).__name__.lower()


def _widest(lines: Sequence[str]) -> int:
    """Columns of a screen: not wider than what stands on it, for it is to be read on a telephone,
    too.
    """
    return max(_NARROWEST, *(len(line) for line in lines))


def _drawing(svg: str) -> Markup:
    """The drawing itself, without what stands before it in a file of its own. It was made here.
    Names inside it get a lead of their own, for a page may hold several drawings.
    """
    found = _SVG.search(svg)
    if found is None:
        return Markup("")
    lead = f"d{zlib.crc32(svg.encode()):08x}-"
    named = _IDS.sub(lambda match: f"{match.group(1)}{lead}", found.group())
    return Markup(named)


def _harmless(value: object) -> object:
    """Plain strings lose control characters; what jinja has marked as safe markup is the template's
    own.
    """
    return clean_text(value, 4000) if type(value) is str else value


# A report as Markdown (CommonMark with tables), drawings as their words.


_MARKDOWN_MARK = "<!-- mending report/1 {} -->"
_SPECIAL = re.compile(r"([\\`*_{}\[\]<>|#])")


def render_markdown(report: HandOver) -> str:
    """The whole text. Nothing that came from evidence is taken for markup."""
    lines = [
        _MARKDOWN_MARK.format(report.mark),
        f"# Case {_plain(report.case)}",
        "",
        f"**{_plain(report.verdict)}**",
        "",
    ]
    lines += [f"Made {_plain(report.made)}; times: {_plain(report.zone)}.", ""]
    for section in report.sections:
        lines += [f"## {_plain(section.title)}", ""]
        for block in section.blocks:
            lines += [*_block(block), ""]
    return "\n".join(lines).rstrip() + "\n"


def _block(block: Block) -> list[str]:
    match block:
        case Paragraph():
            return [_plain(block.text)]
        case Picture():
            return [f"(Drawing: {_plain(block.says)})"]
        case Pairs():
            return [f"- {_plain(name)}: {_plain(value)}" for name, value in block.rows]
        case Ladder():
            lines = [f"### {_plain(block.title)}", ""]
            for name, state, checks in block.rows:
                lines.append(f"- **{_plain(name)}**: {_plain(state)}")
                lines += [f"  - {_plain(check)}" for check in checks]
            return lines
        case Rungs():
            rows = tuple((phase, *states) for phase, states in block.rows)
            return _table(Table(("phase", *block.titles), rows))
        case Screen():
            lines = [f"> {_plain(line)}  " for line in block.lines]
            return [f"{_plain(block.says)}:", "", *lines]
        case Table():
            return _table(block)


def _table(table: Table) -> list[str]:
    marks = ["--:" if number in table.right else "---" for number in range(len(table.heads))]
    rows = [table.heads, *table.rows]
    lines = ["| " + " | ".join(_plain(cell) for cell in row) + " |" for row in rows]
    return [lines[0], "| " + " | ".join(marks) + " |", *lines[1:]]


def _plain(text: str) -> str:
    return _SPECIAL.sub(r"\\\1", " ".join(clean_text(text, 4000).split()))


# Times as people write them: in the reader's zone, with the weekday.


def written(at: str | None, zone: tzinfo | None) -> str:
    """A time in RFC 3339 as `Mon 2 Mar 2026, 09:14`; what is no time stays as it is.

    Args:
        zone: None: this machine's.
    """
    try:
        moment = datetime.fromisoformat(at or "")
    except ValueError:
        return at or ""
    there = moment.astimezone(zone) if moment.tzinfo is not None else moment
    return f"{there:%a} {there.day} {there:%b %Y, %H:%M}"


def zone_name(at: str, zone: tzinfo | None) -> str:
    """What the zone is called at that time, and how far it is from UTC."""
    try:
        there = datetime.fromisoformat(at).astimezone(zone)
    except ValueError:
        return "UTC"
    offset = f"{there:%z}"
    away = f"UTC{offset[:3]}:{offset[3:]}" if offset.strip("+-0") else "UTC"
    name = there.tzname() or away
    return away if name == away else f"{name} ({away})"
