"""`mending search TARGET`"""

import click

from mending.app.searching import search_target
from mending.app.targets import NamedTarget
from mending.cli import options
from mending.cli.figures import draw, wanted_figure
from mending.cli.host import this_host
from mending.cli.progress import bar
from mending.cli.show.console import emit, named_target
from mending.cli.show.searches import show_search
from mending.disk.locked import GivenKey


@click.command("search")
@options.target_argument
@options.sector
@options.locked
@options.figure("Also draw the disk map")
@options.as_json
def command(
    target: str,
    sector: int | None,
    secret: GivenKey | None,
    figure: str | None,
    force: bool,
    as_json: bool,
) -> None:
    """Look over the whole disk for volumes, also those that no table lists, and say how sure each
    one is. With a key, locked volumes are searched inside, too.
    """
    host = this_host()
    named = NamedTarget(target, host)
    picture = wanted_figure(figure, force, target, named.path)
    with bar("searching") as progress:
        result = search_target(named, sector, secret, progress)
    emit(result, as_json, lambda search: show_search(search, target))
    maps = [] if result.map is None else [(named_target(result.path, target), result.map)]
    draw(picture, maps)
