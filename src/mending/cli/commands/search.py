"""`mending search TARGET`"""

import click

from mending.cli import options
from mending.cli.progress import bar
from mending.cli.show import emit, show_search
from mending.cli.targets import Target, opened
from mending.disk import search_result


@click.command("search")
@options.target_argument
@options.sector
@options.as_json
def command(target: str, sector: int | None, as_json: bool) -> None:
    """Look over the whole disk for volumes, also those that no table lists, and say how sure each one is."""
    with opened(Target(target).disk, sector) as source, bar("searching") as progress:
        result = search_result(source, progress)
    emit(result, as_json, lambda one: show_search(one, target))
