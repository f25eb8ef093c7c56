"""Options and small parsers that several commands share."""

import functools
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar, cast

import click

from mending.cli.config import SHOP_FIELDS
from mending.model import UsageError

F = TypeVar("F", bound=Callable[..., Any])
as_json = click.option(
    "--json", "as_json", is_flag=True, help="Print one JSON document (shapes: docs/json.md)."
)
sector = click.option(
    "--sector",
    type=click.Choice(["512", "4096"]),
    callback=lambda _ctx, _param, value: int(value) if value else None,
    help="Bytes per sector, where the image should not be asked.",
)
firmware = click.option(
    "--firmware", type=click.Choice(["bios", "uefi"]), help="The firmware type."
)
variables = click.option(
    "--variables",
    metavar="PATH",
    help="What UEFI firmware remembers: a dump of its variables, or a folder of them.",
)
_KEY: tuple[tuple[str, str, dict[str, Any]], ...] = (
    (
        "--unlock",
        "Ask for the passphrase or recovery key of a locked volume, without showing it.",
        {"is_flag": True},
    ),
    (
        "--key-file",
        "The key of a locked volume: all bytes of this file (/dev/fd/N: of a descriptor).",
        {"metavar": "FILE"},
    ),
    (
        "--patient",
        "Try a key also where that takes long or much memory.",
        {"is_flag": True},
    ),
)
restore_from = click.option(
    "--from",
    "restore_from",
    metavar="FOLDER",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="Where sound copies are: a mounted sound system, or packages.",
)
force = click.option(
    "--force", is_flag=True, help="Write over a file that is there; never over a target or a case."
)


def figure(says: str) -> Callable[[F], F]:
    """The option for a figure, and the one that lets it replace a file.

    Args:
        says: what is drawn.
    """
    option = click.option("--figure", metavar="FILE", help=f"{says}: a .png, .svg or .pdf file.")
    return lambda command: option(force(command))


def output(says: str, kind: type[Path] | None = Path) -> Callable[[F], F]:
    """The option for the file that a command writes, and the one that lets it replace a file.

    Args:
        says: what is written.
    """
    option = click.option(
        "-o", "--output", metavar="FILE", type=click.Path(path_type=kind), help=says
    )
    return lambda command: option(force(command))


def locked(command: F) -> F:
    """Options for the key of locked volumes; the command gets `secret`, None without one."""

    @functools.wraps(command)
    def gathered(
        *args: Any, unlock: bool, key_file: str | None, patient: bool, **given: Any
    ) -> Any:
        key = None
        if unlock or key_file is not None:
            from mending.cli.asking import given_key  # noqa: PLC0415 - lazy: seldom given

            key = given_key(unlock, key_file, patient)
        return command(*args, secret=key, **given)

    wrapped: Any = gathered
    for name, says, keywords in reversed(_KEY):
        wrapped = click.option(name, help=says, **keywords)(wrapped)
    return cast(F, wrapped)


def _completed(kind: str) -> Callable[..., Any]:
    """What the tab key proposes, looked up only when it is pressed."""

    def propose(context: click.Context, parameter: click.Parameter, begun: str) -> Any:
        from mending.cli import completing  # noqa: PLC0415 - lazy: only the tab key needs it

        return getattr(completing, kind)(context, parameter, begun)

    return propose


complete_said = _completed("said")
complete_facts = _completed("facts")
complete_steps = _completed("steps")
complete_causes = _completed("causes")
complete_repairs = _completed("repairs")
complete_topics = _completed("topics")
complete_points = _completed("undo_points")


def shop_fields(command: F) -> F:
    """Options for the fields that a workshop keeps; the command gets `shop`, those that were given
    by name.
    """

    @functools.wraps(command)
    def gathered(*args: Any, **given: Any) -> Any:
        shop = {name: given.pop(name) for name in SHOP_FIELDS}
        return command(*args, shop={k: v for k, v in shop.items() if v}, **given)

    wrapped: Any = gathered
    for name, says in reversed(SHOP_FIELDS.items()):
        wrapped = click.option(f"--{name}", metavar="TEXT", help=says)(wrapped)
    return cast(F, wrapped)


case_argument = click.argument("case", shell_complete=_completed("cases"))
target_argument = click.argument("target", shell_complete=_completed("cases"))


def pairs(words: Sequence[str]) -> dict[str, str]:
    """`NAME=ANSWER` words as a mapping.

    Raises:
        UsageError
    """
    found = {}
    for word in words:
        name, equals, answer = word.partition("=")
        if not equals or not name or not answer:
            raise UsageError(f"{word!r} is not of the form NAME=ANSWER.")
        found[name] = answer
    return found
