"""`mending packs [FOLDER]`"""

from pathlib import Path

import click
from rich.console import Group, RenderableType

from mending.app.own_cards import PacksResult, packs_result
from mending.case import list_cases
from mending.cli import options
from mending.cli.packs import own_packs
from mending.cli.show.console import emit, indented, rows, text, title
from mending.knowledge import BASE_FOLDER
from mending.model import InputError

_MOST = 12


@click.command("packs")
@click.argument("folder", default=".")
@options.as_json
@click.pass_context
def command(ctx: click.Context, folder: str, as_json: bool) -> None:
    """List the packs of knowledge that are in use, in their order, and check all of them; also the
    steps that the cases in FOLDER (here, unless named) plan next and for which the shop has no
    words of its own.
    """
    if not Path(folder).is_dir():
        raise InputError(f"There is no folder {folder}.")
    result = packs_result(BASE_FOLDER, own_packs(), list_cases(Path(folder)))
    emit(result, as_json, _show)
    if any(pack.fault for pack in result.packs):
        ctx.exit(InputError.exit_status)


def _show(result: PacksResult) -> RenderableType:
    parts: list[RenderableType] = [title("In use, each on top of the one before")]
    for number, pack in enumerate(result.packs, 1):
        counts = ", ".join(f"{count} {name}" for name, count in pack.rows.items() if count)
        stands = pack.fault or counts
        name = pack.folder or "what Mending comes with"
        parts.append(indented(rows([(f"{number}.", name, stands)], wide=2)))
    if result.without_own:
        parts.append(title("Planned next, without words of your own"))
        cells = [
            (step, f"{count} case{'s' * (count != 1)}")
            for step, count in list(result.without_own.items())[:_MOST]
        ]
        parts += [indented(rows(cells, wide=1)), text("Write them: mending card STEP")]
    return Group(*parts)
