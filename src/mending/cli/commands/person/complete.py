"""`mending complete SHELL`"""

import click
from click.shell_completion import get_completion_class

from mending.model import UsageError

_LINES = {
    "bash": 'eval "$(mending complete bash)"   in ~/.bashrc',
    "zsh": 'eval "$(mending complete zsh)"    in ~/.zshrc',
    "fish": "mending complete fish | source    in ~/.config/fish/config.fish",
}
_EPILOG = "To have it always: " + "; ".join(_LINES.values()) + "."


@click.command("complete", epilog=_EPILOG)
@click.argument("shell", type=click.Choice(list(_LINES)))
@click.pass_context
def command(ctx: click.Context, shell: str) -> None:
    """Print what makes the tab key complete commands, options, cases, signs and answers, steps,
    causes, repairs and undo points in a shell.
    """
    program = ctx.find_root().command
    found = get_completion_class(shell)
    if found is None:
        raise UsageError(f"Nothing is known for {shell}.")
    click.echo(found(program, {}, "mending", "_MENDING_COMPLETE").source())
