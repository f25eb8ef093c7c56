"""`mending files TARGET`"""

from pathlib import Path

import click

from mending.app.opening import opened_to_read
from mending.app.targets import NamedTarget
from mending.app.tracing import keep_no_memory
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.progress import bar
from mending.cli.show.console import emit
from mending.cli.show.files import show_files
from mending.disk.locked import GivenKey
from mending.repair.files import check_files


@click.command("files")
@options.target_argument
@options.restore_from
@click.option(
    "--every",
    is_flag=True,
    help="Of the nt family: all programs, libraries and drivers, not only what the start needs.",
)
@options.locked
@click.option("--check", is_flag=True, help="Exit 1 unless every file is sound.")
@options.as_json
@click.pass_context
def command(
    ctx: click.Context,
    target: str,
    restore_from: Path | None,
    every: bool,
    secret: GivenKey | None,
    check: bool,
    as_json: bool,
) -> None:
    """Which files that a start needs are damaged? Those of Linux are compared with the sums of its
    packages; those of the nt family with what was signed of them, the catalogues of the system, and
    the sums in their headers. Reads only.
    """
    if secret is not None:
        keep_no_memory()
    with (
        opened_to_read(NamedTarget(target, this_host()).path) as source,
        bar("comparing", in_bytes=False) as told,
    ):
        result = check_files(source, restore_from, told, every=every, secret=secret)
    emit(result, as_json, lambda files: show_files(files, target))
    if check and result.files:
        ctx.exit(1)
