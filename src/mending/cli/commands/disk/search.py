"""`mending search TARGET`"""

import click

from mending.app.targets import NamedTarget, opened_disk
from mending.cli import options
from mending.cli.figures import draw, wanted_figure
from mending.cli.host import this_host
from mending.cli.progress import bar
from mending.cli.show.console import emit, named_target
from mending.cli.show.searches import show_search
from mending.disk.scan import search_result


@click.command("search")
@options.target_argument
@options.sector
@options.figure
@options.as_json
def command(target: str, sector: int | None, figure: str | None, as_json: bool) -> None:
    """Look over the whole disk for volumes, also those that no table lists, and say how sure each
    one is.
    """
    path = wanted_figure(figure)
    with (
        opened_disk(NamedTarget(target, this_host()).path, sector) as source,
        bar("searching") as progress,
    ):
        result = search_result(source, progress)
    emit(result, as_json, lambda search: show_search(search, target))
    draw(path, [(named_target(result.path, target), result.map)] if result.map is not None else [])
