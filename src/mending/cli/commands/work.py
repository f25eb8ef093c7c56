"""`mending work CASE`"""

from pathlib import Path
from typing import Any

import click

from mending.app.conversation import Guide, WorkResult
from mending.app.targets import NamedTarget
from mending.case import case_result, load_case
from mending.cli import options
from mending.cli.asking import answers_from, clock, confirmed, follow
from mending.cli.config import base_codes, base_pack, interactive, load_config, this_host
from mending.cli.show.cases import show_case
from mending.cli.show.tables import emit, say, text
from mending.knowledge import Pack
from mending.model import UsageError, quoted
from mending.reason import Statement
from mending.repair.base import MendSettings

_STOPPED = "Stopped here; everything so far is recorded. Go on with:"


@click.command("work")
@options.case_argument
@click.option(
    "--answers",
    "file",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="Take the answers from the lines of this file instead of a person.",
)
@click.option("--mount", is_flag=True, help="Allow repairs what `mend --mount` allows them.")
@click.option(
    "--key-at-hand", is_flag=True, help="The recovery key of an encrypted volume can be typed in."
)
@options.restore_from
@options.as_json
@click.pass_context
def work_command(
    ctx: click.Context, /, case: str, file: Path | None, as_json: bool, **allowed: Any
) -> None:
    """Be led from wherever the case stands to its end: the first questions, step by step with what
    to do and how to tell, repairs, test starts, closing.

    Answers come from the keyboard, from a pipe, or from a file; `?` explains. Everything is
    recorded at once, so it may be stopped anywhere.
    """
    pack, host = base_pack(), this_host()

    def settings(target: NamedTarget) -> MendSettings:
        return _settings(target, **allowed)

    def agreed(statement: Statement) -> Statement:
        return confirmed(statement) if interactive() and file is None else statement

    guide = Guide(load_case(Path(case)), pack, base_codes(), host, settings, agreed)
    if as_json:
        prompt = (
            follow(guide, answers_from(file, clock, echo=False), quiet=True)
            if file
            else guide.next()
        )
        emit(WorkResult(case=case_result(guide.case, pack), prompt=prompt), True, lambda _: "")
    else:
        _talk(guide, pack, file, case)
    if file is not None and guide.misunderstood:
        ctx.exit(UsageError.exit_status)


def _talk(guide: Guide, pack: Pack, file: Path | None, case: str) -> None:
    """The conversation, and what it came to; the interrupt key ends it like `stop`."""
    try:
        stopped = follow(guide, answers_from(file, clock, one_key=load_config().one_key))
    except (KeyboardInterrupt, click.Abort):
        say(text(""), text(f"{_STOPPED} mending work {quoted(case)}"))
        raise
    if stopped is not None:
        say(text(""), text(f"{_STOPPED} mending work {quoted(case)}"))
        return
    say(text(""), show_case(case_result(guide.case, pack)))


def _settings(
    target: NamedTarget, mount: bool, key_at_hand: bool, restore_from: Path | None
) -> MendSettings:
    return MendSettings(
        firmware=target.firmware,
        boot_options=target.boot_options,
        mount=mount,
        key_at_hand=key_at_hand,
        restore_from=restore_from,
    )
