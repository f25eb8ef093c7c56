"""`mending config`"""

import click
from rich.console import Group, RenderableType

from mending.cli import options
from mending.cli.config import ConfigResult, config_result
from mending.cli.show.console import emit, indented, rows, text, title


@click.command("config")
@click.option("--example", is_flag=True, help="Print a file with everything that can be set.")
@options.as_json
def command(example: bool, as_json: bool) -> None:
    """Show the settings, where they are kept, and what is wrong with them."""
    result = config_result()
    if example and not as_json:
        click.echo(result.example, nl=False)
        return
    emit(result, as_json, _show)


def _show(result: ConfigResult) -> RenderableType:
    config = result.config
    cells = [
        ("care", config.care),
        ("colours", config.colours),
        ("zone", config.zone),
        ("one_key", "a digit alone chooses" if config.one_key else "a digit, then Enter"),
        ("packs", ", ".join(config.packs) or "none of your own"),
        *((f"shop {name}", value) for name, value in config.shop.items()),
    ]
    stands = "" if result.exists else " (not there: everything is as it comes)"
    tip = [] if result.exists else [text("See what it may hold: mending config --example")]
    return Group(title(f"{result.file}{stands}"), indented(rows(cells, wide=1)), *tip)
