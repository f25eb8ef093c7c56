"""`mending trace TARGET`"""

import click

from mending.boot import Trace, trace_target
from mending.case import traced
from mending.cli import options, world
from mending.cli.figures import draw, wanted_figure
from mending.cli.show import emit, named_target, show_trace
from mending.cli.targets import Target, opened_any
from mending.knowledge import base_pack


@click.command("trace")
@options.target_argument
@options.sector
@options.firmware
@options.variables
@click.option("--check", is_flag=True, help="Exit 1 unless no fault was found.")
@options.figure
@options.as_json
@click.pass_context
def command(
    ctx: click.Context, target: str, sector: int | None, firmware: str | None, variables: str | None, check: bool,
    figure: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Which phase of starting fails, rung by rung, and why. Reads only; a case remembers the result."""
    path = wanted_figure(figure)
    found = Target(target, variables)
    trace = look(found, sector, firmware)
    emit(trace, as_json, lambda result: show_trace(result, base_pack(), target))
    draw(path, [(named_target(trace.target.path, target), trace.map)] if trace.map is not None else [])
    if check and trace.verdict != "no-fault-found":
        ctx.exit(1)


def look(target: Target, sector: int | None = None, firmware: str | None = None) -> Trace:
    """Trace a target's disk and let its case remember it."""
    with opened_any(target.disk, sector) as source:
        trace = trace_target(source, firmware or target.firmware, target.options)
    if target.case is not None:
        target.case = traced(target.case, world.hand(), trace)
    return trace
