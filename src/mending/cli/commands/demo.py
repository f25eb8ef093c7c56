"""`mending demo [DIR]`"""

import click
from rich.console import Group, RenderableType

from mending.app.demo import DemoResult, DemoRow, Played, play_demo
from mending.cli import options
from mending.cli.config import base_pack, this_host
from mending.cli.show.reasoning import show_plan
from mending.cli.show.repairs import show_mend
from mending.cli.show.tables import emit, indented, rows, say, text, title
from mending.cli.show.traces import show_trace
from mending.model import quoted

_NEXT = ("trace", "causes", "plan", "undo --list")
"""What to type next, of one of the cases."""


@click.command("demo")
@click.argument("folder", default="skerrivane-workshop")
@click.option("--brief", is_flag=True, help="Only the table at the end.")
@options.as_json
def demo_command(folder: str, brief: bool, as_json: bool) -> None:
    """Make sample PCs in FOLDER and do the whole job on each: open, trace, rank, plan, mend, trace
    again. One of them is shown in full.
    """
    found: list[DemoRow] = []
    shown = brief or as_json
    for played in play_demo(folder, this_host()):
        if not shown and played.mended:
            _tell(played)
            shown = True
        found.append(played.row)
    emit(DemoResult(folder=folder, rows=tuple(found)), as_json, _table)


def _tell(played: Played) -> None:
    """One PC from the call to the proof."""
    say(title(f"{played.row.name}: {played.says}"), text(""))
    if played.trace is not None:
        say(text(f"$ mending trace {quoted(played.folder)}", "bold"))
        say(show_trace(played.trace, base_pack(), played.folder), text(""))
    say(text(f"$ mending plan {quoted(played.folder)}", "bold"))
    say(show_plan(played.plan, played.folder), text(""))
    for result in played.mended:
        say(text(f"$ mending mend {quoted(played.folder)} {result.repair}", "bold"))
        say(show_mend(result), text(""))


def _table(result: DemoResult) -> RenderableType:
    cells = [(row.name, row.before, row.done, row.after) for row in result.rows]
    commands = [f"mending {name} {result.folder}/{result.rows[0].name}" for name in _NEXT]
    return Group(
        rows(cells, ("PC", "before", "done", "after"), wide=2),
        text(""),
        text("The cases are there to go on with; try:", "soft"),
        indented(*(text(command) for command in commands)),
    )
