"""`mending help [TOPIC]`"""

import click

from mending.cli import options
from mending.cli.help_topics import TOPICS
from mending.cli.show.console import indented, rows, say, text, title
from mending.model import UsageError


@click.command("help")
@click.argument("topic", required=False, shell_complete=options.complete_topics)
@click.pass_context
def command(ctx: click.Context, topic: str | None) -> None:
    """Explain a TOPIC: phases, places, safety, statuses. Without one: the commands."""
    root = ctx.find_root()
    if topic is None:
        click.echo(root.get_help())
        names = ", ".join(TOPICS)
        click.echo(f"\nTopics: mending help TOPIC, where TOPIC is {names}, or a command.")
        return
    if topic in TOPICS:
        shown = TOPICS[topic]()
        say(title(shown.title), *map(text, shown.says), indented(rows(shown.rows, wide=1)))
        return
    command = root.command
    assert isinstance(command, click.Group)
    found = command.get_command(root, topic)
    if found is None:
        raise UsageError(
            f"There is no topic and no command called {topic!r}.",
            f"Topics: {', '.join(TOPICS)}.",
        )
    with click.Context(found, info_name=topic, parent=root) as inner:
        click.echo(found.get_help(inner))
