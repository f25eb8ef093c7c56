"""`mending compare A B`"""

import click

from mending.app.copies.comparing import compare
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.show.console import emit
from mending.cli.show.copies.compared import show_compare
from mending.disk.locked import GivenKey


@click.command("compare")
@click.argument("first", metavar="A")
@click.argument("second", metavar="B")
@click.option("--all", "everything", is_flag=True, help="Every change, not the first of each kind.")
@options.locked
@click.option("--check", is_flag=True, help="Exit 1 where something differs that the start needs.")
@options.as_json
@click.pass_context
def command(
    ctx: click.Context,
    first: str,
    second: str,
    everything: bool,
    secret: GivenKey | None,
    check: bool,
    as_json: bool,
) -> None:
    """What is otherwise in the settings of B: what the start depends on first, the rest counted.

    A and B are each a hive, a disk, DISK@N for the earlier moment N that a disk keeps (`mending
    trace DISK` names them), a healthy copy, a mounted system, a folder of hives or a case. Reads
    only.
    """
    result = compare(first, second, this_host(), secret)
    emit(result, as_json, lambda found: show_compare(found, everything=everything))
    if check and any(change.decides for change in result.changes):
        ctx.exit(1)
