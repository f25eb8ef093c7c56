"""`mending search TARGET`"""

import click

from mending.cli import options
from mending.cli.figures import draw, wanted_figure
from mending.cli.progress import bar
from mending.cli.show import emit, named_target, show_search
from mending.cli.targets import Target, opened
from mending.disk import search_result


@click.command("search")
@options.target_argument
@options.sector
@options.figure
@options.as_json
def command(target: str, sector: int | None, figure: str | None, as_json: bool) -> None:
    """Look over the whole disk for volumes, also those that no table lists, and say how sure each one is."""
    path = wanted_figure(figure)
    with opened(Target(target).disk, sector) as source, bar("searching") as progress:
        result = search_result(source, progress)
    emit(result, as_json, lambda one: show_search(one, target))
    draw(path, [(named_target(result.path, target), result.map)] if result.map is not None else [])
