"""A report as Markdown (CommonMark with tables), drawings as their words."""

import re

from mending.model import clean_text
from mending.report.document import (
    Block,
    HandOver,
    Ladder,
    Pairs,
    Paragraph,
    Picture,
    Rungs,
    Screen,
    Table,
)

_MARK = "<!-- mending report/1 {} -->"
_SPECIAL = re.compile(r"([\\`*_{}\[\]<>|#])")


def render_markdown(report: HandOver) -> str:
    """The whole text. Nothing that came from evidence is taken for markup."""
    lines = [
        _MARK.format(report.mark),
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
