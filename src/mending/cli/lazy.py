"""A group of commands whose modules are imported when they are called."""

import gc
from collections.abc import Mapping
from importlib import import_module
from typing import Any

import click
from click.shell_completion import CompletionItem

_NEAR = 0.6
"""Likeness of two names, from 0 to 1, from which one is proposed for the other."""


class LazyGroup(click.Group):
    """Knows the names and one line about each command; the rest is imported when the command runs.

    Args:
        rows: by name, in the order of the work: the module below `mending.cli.commands` that has
            `NAME_command`, and one line of help.
    """

    def __init__(self, *args: Any, rows: Mapping[str, tuple[str, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._rows = rows

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - the shape is click's
        """Names in the order of the work."""
        return list(self._rows)

    def get_command(
        self,
        ctx: click.Context,  # noqa: ARG002
        cmd_name: str,
    ) -> click.Command | None:
        """The command, imported now."""
        if cmd_name not in self._rows:
            return None
        gc.disable()  # while modules load nothing is let go of: looking for it takes a tenth more
        module = import_module(f"mending.cli.commands.{self._rows[cmd_name][0]}")
        command = getattr(module, f"{cmd_name}_command")
        gc.freeze()
        gc.enable()
        assert isinstance(command, click.Command)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """The command; for one that is not there, the nearest name.

        Raises:
            click.UsageError
        """
        name = args[0]
        if name not in self._rows and not name.startswith("-"):
            from difflib import get_close_matches  # noqa: PLC0415 - lazy: only a slip needs it

            near = get_close_matches(name.lower(), self._rows, 1, _NEAR)
            meant = f" Did you mean {near[0]}?" if near else ""
            ctx.fail(f"There is no command {name!r}.{meant}")
        return super().resolve_command(ctx, args)

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """Names for the tab key, without importing any command."""
        found = [
            CompletionItem(name, help=line)
            for name, (_, line) in self._rows.items()
            if name.startswith(incomplete)
        ]
        return found or click.Command.shell_complete(self, ctx, incomplete)

    def format_commands(
        self,
        ctx: click.Context,  # noqa: ARG002
        formatter: click.HelpFormatter,
    ) -> None:
        """The list in `--help`, made without importing any command."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, line) for name, (_, line) in self._rows.items()])
