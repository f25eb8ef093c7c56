"""What the tab key proposes: cases, signs and answers, facts, steps, repairs, undo points.

Called by the shell for every key press: it asks for as little as it can, prints nothing, and
proposes nothing where it cannot tell.
"""

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import click
import msgspec
from click.shell_completion import CompletionItem

from mending.model import MendingError

Complete = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]
_CASE_FILE, _MOST = "case.json", 200


def cases(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """Folders that are cases; anything else that a shell would propose besides."""
    folder = Path(begun).parent if not begun.endswith("/") else Path(begun)
    try:
        inside = sorted(path for path in folder.iterdir() if (path / _CASE_FILE).is_file())
    except OSError:
        inside = []
    found = [str(path) for path in inside if str(path).startswith(begun)][:_MOST]
    items = [CompletionItem(name, help="a case") for name in found]
    return items or [CompletionItem(begun, type="file")]


def said(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """`SIGN=ANSWER` and `FACT=ANSWER`."""

    def ask() -> Iterable[tuple[str, str]]:
        pack = _pack()
        for name, sign in {**pack.facts, **pack.signs}.items():
            if "=" not in begun:
                yield f"{name}=", sign.asks
            elif begun.startswith(f"{name}="):
                for answer, row in sign.answers.items():
                    yield f"{name}={answer}", row.says

    return _matching(begun, ask)


def facts(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """`FACT=ANSWER`."""

    def ask() -> Iterable[tuple[str, str]]:
        for name, fact in _pack().facts.items():
            for answer, row in fact.answers.items():
                yield f"{name}={answer}", row.says

    return _matching(begun, ask)


def steps(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """Ids of steps."""
    return _matching(begun, lambda: [(step.id, step.does) for step in _pack().steps.values()])


def causes(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """Ids of causes."""
    return _matching(begun, lambda: [(each.id, each.says) for each in _pack().causes.values()])


def repairs(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """Ids of repairs."""
    from mending.model import RepairId  # noqa: PLC0415 - lazy: the tab key must be quick

    return _matching(begun, lambda: [(repair.value, "") for repair in RepairId])


def topics(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """Topics of `help`, commands, and steps."""
    from mending.cli import COMMANDS  # noqa: PLC0415 - lazy: as above
    from mending.cli.help_topics import TOPICS  # noqa: PLC0415

    def ask() -> Iterable[tuple[str, str]]:
        yield from ((name, "") for name in (*TOPICS, *COMMANDS))
        yield from ((step.id, step.does) for step in _pack().steps.values())

    return _matching(begun, ask)


def undo_points(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
    """Undo points of the target that stands before."""

    def ask() -> Iterable[tuple[str, str]]:
        from mending.app.mending import points_result  # noqa: PLC0415
        from mending.app.targets import NamedTarget  # noqa: PLC0415 - lazy: as below
        from mending.cli.config import this_host  # noqa: PLC0415

        host = msgspec.structs.replace(this_host(), ask=None, told=None)
        target = NamedTarget(str(ctx.params.get("target", "")), host)
        journal = target.journal(host)
        points = points_result(list(journal.load().points), journal).points
        return [(point.id, point.repair) for point in points]

    return _matching(begun, ask)


def _pack() -> Any:
    from mending.cli.config import base_pack  # noqa: PLC0415 - lazy, as above

    return base_pack()


def _matching(begun: str, ask: Callable[[], Iterable[tuple[str, str]]]) -> list[CompletionItem]:
    try:
        found = [row for row in ask() if row[0].startswith(begun)]
    except (MendingError, OSError):
        return []
    return [CompletionItem(name, help=says) for name, says in found[:_MOST]]
