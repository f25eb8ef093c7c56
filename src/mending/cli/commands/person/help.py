"""`mending help [TOPIC]`"""

import click

from mending.cli import options
from mending.cli.help_topics import TOPICS
from mending.cli.packs import base_pack
from mending.cli.show.case.cards import show_how_to
from mending.cli.show.console import indented, rows, say, text, title
from mending.knowledge import how_to
from mending.model import UsageError


@click.command("help")
@click.argument("topic", required=False, shell_complete=options.complete_topics)
@click.pass_context
def command(ctx: click.Context, topic: str | None) -> None:
    """Explain a TOPIC: phases, places, safety, statuses, a command, or how a step is done. Without
    one: the commands.
    """
    root = ctx.find_root()
    if topic is None:
        click.echo(root.get_help())
        names = ", ".join(TOPICS)
        click.echo(
            f"\nTopics: mending help TOPIC, where TOPIC is {names}, a command, or a step of a plan."
        )
        return
    if topic in TOPICS:
        shown = TOPICS[topic]()
        say(title(shown.title), *map(text, shown.says), indented(rows(shown.rows, wide=1)))
        return
    command = root.command
    assert isinstance(command, click.Group)
    found = command.get_command(root, topic)
    if found is None:
        pack = base_pack()
        if topic not in pack.steps:
            raise UsageError(
                f"There is no topic, no command and no step called {topic!r}.",
                f"Topics: {', '.join(TOPICS)}. Steps: those that `mending plan CASE` names.",
            )
        say(show_how_to(how_to(pack, pack.steps[topic])))
        return
    with click.Context(found, info_name=topic, parent=root) as inner:
        click.echo(found.get_help(inner))
