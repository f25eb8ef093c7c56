"""`mending files TARGET`"""

from pathlib import Path

import click

from mending.cli import options
from mending.cli.progress import bar
from mending.cli.show import emit, show_files
from mending.cli.targets import Target, opened_any
from mending.repair import check_files


@click.command("files")
@options.target_argument
@options.restore_from
@click.option("--check", is_flag=True, help="Exit 1 unless every file is sound.")
@options.as_json
@click.pass_context
def command(ctx: click.Context, target: str, restore_from: Path | None, check: bool, as_json: bool) -> None:
    """Compare the files a Linux system starts by with the sums of its packages. Reads only."""
    with opened_any(Target(target).disk) as source, bar("comparing", in_bytes=False) as told:
        result = check_files(source, restore_from, told)
    emit(result, as_json, lambda one: show_files(one, target))
    if check and result.files:
        ctx.exit(1)
