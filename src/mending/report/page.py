"""A report as one self-contained HTML page: nothing is fetched, nothing runs."""

import re
import zlib
from collections.abc import Sequence

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from mending.model import clean_text
from mending.report.document import Block, HandOver

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
