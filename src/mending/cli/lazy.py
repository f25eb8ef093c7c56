"""A group of commands whose modules are imported when they are called."""

from collections.abc import Mapping
from importlib import import_module
from typing import Any

import click


class LazyGroup(click.Group):
    """Knows the names and one line about each command; the rest is in `mending.cli.NAME`.

    Args:
        commands_help: one line by name, in the order of the work.
    """

    def __init__(self, *args: Any, commands_help: Mapping[str, str], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._help = commands_help

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - the shape is click's
        """Names in the order of the work."""
        return list(self._help)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        """The command, imported now."""
        if cmd_name not in self._help:
            return None
        command = import_module(f"mending.cli.commands.{cmd_name}").command
        assert isinstance(command, click.Command)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """The list in `--help`, made without importing any command."""
        with formatter.section("Commands"):
            formatter.write_dl(list(self._help.items()))
