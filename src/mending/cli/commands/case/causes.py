"""`mending causes CASE`"""

from pathlib import Path

import click

from mending.case import causes_of, load_case
from mending.case.turns import turns
from mending.cli import options
from mending.cli.figures import draw_beliefs, wanted_figure
from mending.cli.packs import base_pack
from mending.cli.show.console import emit
from mending.cli.show.reasoning import show_causes


@click.command("causes")
@options.case_argument
@click.option(
    "--all", "everything", is_flag=True, help="Every cause of the pack, also the unlikely ones."
)
@options.figure("Draw the causes, and what was believed after each piece of evidence")
@options.as_json
def command(case: str, everything: bool, figure: str | None, force: bool, as_json: bool) -> None:
    """Ranked causes, each with the evidence for and against it."""
    known, pack = load_case(Path(case)), base_pack()
    picture = wanted_figure(figure, force, case, known.state.disk or case)
    result = causes_of(known.state, pack)
    if picture is not None:
        draw_beliefs(picture, result, turns(known, pack))
    emit(result, as_json, lambda causes: show_causes(causes, everything))
