"""`mending rehearse TARGET`"""

import click

from mending.app.targets import NamedTarget
from mending.app.tracing import rehearse
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.show.console import emit
from mending.cli.show.rehearsals import show_rehearsal


@click.command("rehearse")
@options.target_argument
@options.sector
@options.as_json
def command(target: str, sector: int | None, as_json: bool) -> None:
    """Run the disk's own boot code in an emulator: the screen, the sectors it reads, where it comes
    to rest. A case remembers the screen. No key is taken: the code runs on what firmware sees.
    """
    host = this_host()
    result = rehearse(NamedTarget(target, host), host, sector)
    emit(result, as_json, lambda rehearsal: show_rehearsal(rehearsal, target))
