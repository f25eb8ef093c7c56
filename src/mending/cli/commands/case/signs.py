"""`mending signs`"""

from collections.abc import Mapping

import click
import msgspec

from mending.cli import options
from mending.cli.packs import base_pack
from mending.cli.show.console import emit
from mending.cli.show.signs import show_signs
from mending.knowledge import Sign


class SignsResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="signs/1"):
    """Everything that can be seen, and everything that can be known beforehand, by id."""

    signs: Mapping[str, Sign]
    facts: Mapping[str, Sign]


@click.command("signs")
@click.option("--facts", is_flag=True, help="List the facts that `open --fact` takes instead.")
@options.as_json
def command(facts: bool, as_json: bool) -> None:
    """List what can be seen or tried at a PC, and the answers that `saw` takes."""
    pack = base_pack()
    result = SignsResult(signs=pack.signs, facts=pack.facts)
    emit(
        result, as_json, lambda signs: show_signs((signs.facts if facts else signs.signs).values())
    )
