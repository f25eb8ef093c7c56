"""`mending crashes TARGET`"""

from pathlib import Path

import click

from mending.case import is_case, load_case
from mending.cli import options
from mending.cli.show import emit, show_crashes
from mending.crash import CrashesResult, LogFile, crashes_in, log_files
from mending.knowledge import base_codes
from mending.source import open_source


@click.command("crashes")
@click.argument("target")
@click.option("--check", is_flag=True, help="Exit 1 when a log tells of a crash.")
@options.as_json
@click.pass_context
def command(ctx: click.Context, target: str, check: bool, as_json: bool) -> None:
    """The crashes that kernel logs tell of: panics, oopses, lockups, hardware errors. Reads only.

    TARGET is a log (a capture of the screen or of a serial line, too), a folder of records, the folder of a mounted
    system, or a case with logs among its evidence.
    """
    logs, found, read = _logs(Path(target)), [], 0
    for log in logs:
        with open_source(str(log.path)) as source:
            found += crashes_in(log.name, source, base_codes())
            read += source.bytes_read
    result = CrashesResult(target=target, files=tuple(one.name for one in logs), bytes=read, crashes=tuple(found))
    emit(result, as_json, show_crashes)
    if check and result.crashes:
        ctx.exit(1)


def _logs(path: Path) -> list[LogFile]:
    if not is_case(path):
        return log_files(path)
    case = load_case(path)
    kept = [one for one in case.state.evidence if one.sort in {"text", "other"} and one.copy]
    return [LogFile(one.copy or "", case.folder / "evidence" / (one.copy or "")) for one in kept]
