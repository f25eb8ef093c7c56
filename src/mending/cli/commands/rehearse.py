"""`mending rehearse TARGET`"""

import click

from mending.boot.rehearse import rehearse_disk
from mending.cli import options
from mending.cli.show import emit, show_rehearsal
from mending.cli.targets import Target, opened


@click.command("rehearse")
@options.target_argument
@options.sector
@options.as_json
def command(target: str, sector: int | None, as_json: bool) -> None:
    """Run the disk's own boot code in an emulator: the screen, the sectors it reads, where it comes to rest."""
    with opened(Target(target).disk, sector) as source:
        result = rehearse_disk(source)
    emit(result, as_json, lambda one: show_rehearsal(one, target))
