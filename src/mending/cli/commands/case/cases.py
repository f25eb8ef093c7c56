"""`mending cases [FOLDER]`"""

from pathlib import Path

import click

from mending.case import cases_result, list_cases
from mending.cli import options
from mending.cli.packs import base_pack
from mending.cli.show.case.cases import show_cases
from mending.cli.show.console import emit
from mending.model import InputError


@click.command("cases")
@click.argument("folder", default=".")
@options.as_json
def command(folder: str, as_json: bool) -> None:
    """List the cases that lie in FOLDER (here, unless named)."""
    if not Path(folder).is_dir():
        raise InputError(f"There is no folder {folder}.")
    emit(cases_result(list_cases(Path(folder)), base_pack()), as_json, show_cases)
