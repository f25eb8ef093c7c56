"""`mending undo TARGET [POINT]`"""

import click

from mending.app.targets import NamedTarget
from mending.app.undoing import list_undo_points, undo
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.show.console import emit
from mending.cli.show.repairs import show_points


@click.command("undo")
@options.target_argument
@click.argument("point", required=False)
@click.option("--list", "listing", is_flag=True, help="List the undo points of this target.")
@options.as_json
def command(target: str, point: str | None, listing: bool, as_json: bool) -> None:
    """Put back what a repair changed: the newest undo point, or the one named."""
    host = this_host()
    found = NamedTarget(target, host)
    result = list_undo_points(found) if listing else undo(found, host, point)
    emit(result, as_json, show_points)
