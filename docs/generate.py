"""Writes what the docs say of the program from the program itself: the schemas of all documents,
the catalogue of findings and repairs, what answers rule out, the picture of the house. `make docs`
runs it; the tests compare.
"""

import inspect
import json
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
import msgspec
from click_man.core import generate_man_page

from mending import __version__
from mending.app.conversation import WorkResult
from mending.app.demo import DemoResult
from mending.app.gathering import GatherResult
from mending.app.healthy import KeepResult
from mending.app.own_cards import OwnCardResult, PacksResult
from mending.app.reporting import ReportResult
from mending.boot.chain import Trace
from mending.boot.rehearse import RehearsalResult
from mending.case import CaseResult, CasesResult
from mending.cli import program
from mending.cli.commands.lists import SignsResult
from mending.cli.config import ConfigResult
from mending.cli.help_topics import TOPICS
from mending.cli.output import ErrorResult
from mending.crash.lookup import CodeResult
from mending.crash.results import CrashesResult
from mending.disk.scan import SearchResult
from mending.disk.settings import CompareResult
from mending.imaging.checking import CopyCheckResult
from mending.imaging.copying import CopyResult
from mending.knowledge import Grades, Speech, base_pack
from mending.knowledge.load import ROWS
from mending.model import FINDINGS, REPAIRS
from mending.plan import PlanResult, QuestionResult, WhyResult
from mending.reason import CausesResult, VolumesResult, excluded
from mending.repair.files import FilesResult
from mending.repair.journal import PointsResult
from mending.repair.run import MendAllResult, MendResult
from mending.report.document import HandOver

DOCS = Path(__file__).parent
PROJECT = DOCS.parent / "pyproject.toml"
WIDE, HIGH, GAP = 1060, 52, 10
"""Of the drawing of the house, in its own units."""
DOCUMENTS = (
    CaseResult,
    CasesResult,
    CausesResult,
    CodeResult,
    CompareResult,
    CrashesResult,
    DemoResult,
    ErrorResult,
    FilesResult,
    MendAllResult,
    MendResult,
    KeepResult,
    CopyCheckResult,
    CopyResult,
    PlanResult,
    PointsResult,
    QuestionResult,
    RehearsalResult,
    ReportResult,
    SearchResult,
    SignsResult,
    Trace,
    WhyResult,
    WorkResult,
    ConfigResult,
    GatherResult,
    HandOver,
    OwnCardResult,
    PacksResult,
    VolumesResult,
)


def pack_schema() -> dict[str, Any]:
    """The JSON schema of the tables of a knowledge pack: a member for each TOML file, in it the
    name of its tables.
    """
    rows = [(name, table, kind) for name, (table, kind) in ROWS.items()]
    wholes = {"grades": Grades, "speech": Speech}
    kinds = [*(kind for _, _, kind in rows), *wholes.values()]
    shapes, definitions = msgspec.json.schema_components(kinds, ref_template="#/$defs/{name}")
    files = {
        f"{name}.toml": {"type": "object", "properties": {table: {"type": "array", "items": shape}}}
        for (name, table, _), shape in zip(rows, shapes, strict=False)
    }
    files |= {f"{name}.toml": shape for name, shape in zip(wholes, shapes[-2:], strict=True)}
    dialect = "https://json-schema.org/draft/2020-12/schema"
    return {"$schema": dialect, "title": "pack", "properties": files, "$defs": definitions}


def schema_of(document: type[msgspec.Struct]) -> dict[str, Any]:
    """The JSON schema of one document. The program always prints every member and no other."""
    schema = msgspec.json.schema(document)
    for definition in schema["$defs"].values():
        if "description" in definition:  # some releases of the library do so themselves
            definition["description"] = inspect.cleandoc(definition["description"])
        if "properties" in definition:
            definition["required"] = list(definition["properties"])
            definition["additionalProperties"] = False
            for member in definition["properties"].values():
                member.pop("default", None)
    dialect = "https://json-schema.org/draft/2020-12/schema"
    return {"$schema": dialect, "title": kind_of(document), **schema}


def kind_of(document: type[msgspec.Struct]) -> str:
    """`trace` of `trace/1`."""
    return str(document.__struct_config__.tag).partition("/")[0]


def catalogue() -> str:
    """Every finding and every repair, as tables."""
    lines = [
        "# Findings and repairs",
        "",
        "Written by `make docs` from `src/mending/model/catalogue`; a test compares.",
        "",
        "## Repairs",
        "",
        "| repair | acts on | step of the plan | proved |",
        "|---|---|---|---|",
        *(
            f"| `{repair}` | {row.acts_on} | `{row.step}` | {row.proof} |"
            for repair, row in REPAIRS.items()
        ),
        "",
        "## Findings",
        "",
        "| finding | phase | repairs that answer it |",
        "|---|---|---|",
        *(
            f"| `{finding}` | {row.phase} | {', '.join(f'`{repair}`' for repair in row.repairs)} |"
            for finding, row in FINDINGS.items()
        ),
    ]
    return "\n".join(lines) + "\n"


def exclusions() -> str:
    """For every answer how far the start gets, and the causes that it rules out."""
    pack = base_pack()
    lines = [
        "# What answers rule out",
        "",
        "Written by `make docs` from the base pack; a test compares. A cause that an answer rules",
        "out is left with the chance that the answer was wrong ([how](statements.md)).",
        "",
        "| answer | the start reaches | and stops before | rules out |",
        "|---|---|---|---|",
    ]
    for sign in pack.signs.values():
        for answer, row in sign.answers.items():
            out = [cause.id for cause in pack.causes.values() if excluded(cause, sign, answer)]
            if out:
                names = f"{row.reaches or ''} | {row.stops_before or ''}"
                lines.append(f"| `{sign.id}={answer}` | {names} | {', '.join(out)} |")
    return "\n".join(lines) + "\n"


def house() -> str:
    """The floors and rooms as a drawing, from the import contracts: the roof above, and beside
    each room the rooms inside it, those that may import from the others first.
    """
    contracts = tomllib.loads(PROJECT.read_text())["tool"]["importlinter"]["contracts"]
    layers = [contract for contract in contracts if contract["type"] == "layers"]
    floors = next(contract["layers"] for contract in layers if "containers" not in contract)
    inside = {
        container: [room for layer in contract["layers"] for room in layer.split(" | ")]
        for contract in layers
        for container in contract.get("containers", ())
    }
    drawn = []
    for number, floor in enumerate(floors):
        rooms = floor.split(" | ")
        width = (WIDE - GAP * (len(rooms) - 1)) / len(rooms)
        for place, room in enumerate(rooms):
            left, top = GAP + place * (width + GAP), GAP + number * (HIGH + GAP)
            drawn.append(
                f'<rect x="{left:.0f}" y="{top}" width="{width:.0f}" height="{HIGH}" rx="4"/>'
                f'<text x="{left + 12:.0f}" y="{top + 22}" class="room">'
                f"{room.removeprefix('mending.')}</text>"
                f'<text x="{left + 12:.0f}" y="{top + 41}">{", ".join(inside.get(room, ()))}</text>'
            )
    height = GAP + len(floors) * (HIGH + GAP)
    style = (
        "rect{fill:#f3f6f8;stroke:#345} text{font:12px sans-serif;fill:#345}"
        " .room{font:bold 16px sans-serif;fill:#123}"
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE + 2 * GAP} {height}">'
        f'<rect width="100%" height="100%" style="fill:#fff;stroke:none"/>'
        f"<style>{style}</style>\n" + "\n".join(drawn) + "\n</svg>\n"
    )


def commands() -> list[tuple[str, click.Context]]:
    """Every command by name, in the order of the work, as it is called."""
    top = click.Context(program, info_name="mending")
    found = []
    for name in program.list_commands(top):
        command = program.get_command(top, name)
        assert command is not None
        found.append((name, click.Context(command, info_name=name, parent=top)))
    return found


def reference() -> str:
    """Every command with all its arguments and options."""
    lines = [
        "# Commands",
        "",
        "Made from the program by `make docs`. `mending help` and `mending COMMAND --help` say the"
        " same.",
    ]
    for name, context in commands():
        command = context.command
        lines += ["", f"## {name}", "", f"`{command.get_usage(context).removeprefix('Usage: ')}`"]
        lines += ["", inspect.cleandoc(command.help or ""), ""]
        rows = [each.get_help_record(context) for each in command.get_params(context)]
        listed = [row for row in rows if row is not None and not row[0].startswith("-h,")]
        if listed:
            lines += ["| option | what it does |", "|---|---|"]
            for option, says in listed:
                cells = [cell.replace("|", " or ") for cell in (option, says)]
                lines.append(f"| `{cells[0]}` | {cells[1]} |")
    return "\n".join(lines) + "\n"


FILES = (
    ("~/.config/mending/config.toml", "settings; `mending config` shows them"),
    ("~/.local/share/mending/undo/", "undo points of disks that belong to no case"),
    ("~/.local/share/mending/key", "the key of this machine, which seals undo points and cases"),
    ("CASE/case.json, CASE/record.jsonl", "a case: what it is, and what happened"),
    ("CASE/evidence/, CASE/undo/", "what was attached to it, and its undo points"),
    ("IMAGE.reading", "what `mending copy` has of a drive so far"),
)
EXAMPLES = (
    ("mending open quay-desk --disk /dev/sdx", "a case, its disk attached and traced"),
    ("mending trace quay-desk", "which phase of starting fails, and why"),
    ("mending plan quay-desk", "the cheapest safe order of steps"),
    ("mending mend quay-desk --all", "the offline repairs, each with an undo point"),
    ("mending undo quay-desk", "the newest of them taken back"),
    ("mending work quay-desk", "be led through all of it"),
)


def _whole_page(name: str, context: click.Context) -> str:
    """A page of the manual; the first one has what holds for all commands."""
    page = str(generate_man_page(context, __version__, date=__version__))
    if name != "mending":
        return page
    parts = [page.rstrip(), '.SH "EXIT STATUS"']
    parts += _list([(str(row[0]), str(row[1])) for row in TOPICS["statuses"]().rows])
    parts += [".SH FILES", *_list(FILES), ".SH EXAMPLES", *_list(EXAMPLES)]
    return "\n".join(parts) + "\n"


def _list(rows: Sequence[tuple[str, str]]) -> list[str]:
    """Rows of a manual page: a head and what it means."""
    lines = list[str]()
    for head, says in rows:
        lines += [".TP", f"\\fB{_plain(head)}\\fP", _plain(says)]
    return lines


def _plain(words: str) -> str:
    """Words in which nothing is taken for a request (groff_man(7))."""
    return words.replace("\\", "\\e").replace("-", "\\-")


def man_pages() -> dict[Path, str]:
    """A page of the manual for the program and for each command."""
    top = click.Context(program, info_name="mending")
    every = [("mending", top), *((f"mending-{name}", context) for name, context in commands())]
    return {DOCS / "man" / f"{name}.1": _whole_page(name, context) for name, context in every}


def pages() -> dict[Path, str]:
    """What is written, by file."""
    schemas = {
        DOCS / "schemas" / f"{kind_of(document)}.json": json.dumps(schema_of(document), indent=1)
        + "\n"
        for document in DOCUMENTS
    }
    tables = {DOCS / "catalogue.md": catalogue(), DOCS / "exclusions.md": exclusions()}
    tables[DOCS / "commands.md"] = reference()
    schemas[DOCS / "schemas" / "pack.json"] = json.dumps(pack_schema(), indent=1) + "\n"
    return {**schemas, **tables, **man_pages(), DOCS / "house.svg": house()}


if __name__ == "__main__":
    for path, content in pages().items():
        path.parent.mkdir(exist_ok=True)
        path.write_text(content)
