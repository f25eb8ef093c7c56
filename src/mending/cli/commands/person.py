"""The program itself and its knowledge: `config`, `complete`, `packs`, `help`, `card`."""

from pathlib import Path

import click
from click.shell_completion import get_completion_class
from rich.console import Group, RenderableType

from mending.app.own_cards import (
    FILE,
    OwnCardResult,
    PacksResult,
    add_own_line,
    keep_draft,
    keep_own_text,
    own_text,
    packs_result,
)
from mending.case import list_cases
from mending.cli import options
from mending.cli.config import (
    ConfigResult,
    base_pack,
    config_result,
    interactive,
    own_packs,
    own_words,
)
from mending.cli.help_topics import TOPICS
from mending.cli.output import confirmed, note
from mending.cli.show.cases import show_how_to, show_own_card
from mending.cli.show.tables import emit, indented, rows, say, text, title
from mending.knowledge import BASE_FOLDER, PLACES, Pack, how_to, old_names
from mending.model import InputError, UsageError


@click.command("config")
@click.option("--example", is_flag=True, help="Print a file with everything that can be set.")
@options.as_json
def config_command(example: bool, as_json: bool) -> None:
    """Show the settings, where they are kept, and what is wrong with them."""
    result = config_result()
    if example and not as_json:
        click.echo(result.example, nl=False)
        return
    emit(result, as_json, _show)


def _show(result: ConfigResult) -> RenderableType:
    config = result.config
    cells = [
        ("care", config.care),
        ("colours", config.colours),
        ("zone", config.zone),
        ("one_key", "a digit alone chooses" if config.one_key else "a digit, then Enter"),
        ("packs", ", ".join(config.packs) or "none of your own"),
        *((f"shop {name}", value) for name, value in config.shop.items()),
    ]
    stands = "" if result.exists else " (not there: everything is as it comes)"
    tip = [] if result.exists else [text("See what it may hold: mending config --example")]
    return Group(title(f"{result.file}{stands}"), indented(rows(cells, wide=1)), *tip)


# `mending complete SHELL`


_LINES = {
    "bash": 'eval "$(mending complete bash)"   in ~/.bashrc',
    "zsh": 'eval "$(mending complete zsh)"    in ~/.zshrc',
    "fish": "mending complete fish | source    in ~/.config/fish/config.fish",
}
_EPILOG = "To have it always: " + "; ".join(_LINES.values()) + "."


@click.command("complete", epilog=_EPILOG)
@click.argument("shell", type=click.Choice(list(_LINES)))
@click.pass_context
def complete_command(ctx: click.Context, shell: str) -> None:
    """Print what makes the tab key complete commands, options, cases, signs and answers, steps,
    causes, repairs and undo points in a shell.
    """
    program = ctx.find_root().command
    found = get_completion_class(shell)
    if found is None:
        raise UsageError(f"Nothing is known for {shell}.")
    click.echo(found(program, {}, "mending", "_MENDING_COMPLETE").source())


# `mending packs [FOLDER]`


_MOST = 12


@click.command("packs")
@click.argument("folder", default=".")
@options.as_json
@click.pass_context
def packs_command(ctx: click.Context, folder: str, as_json: bool) -> None:
    """List the packs of knowledge that are in use, in their order, and check all of them; also the
    steps that the cases in FOLDER (here, unless named) plan next and for which the shop has no
    words of its own.
    """
    if not Path(folder).is_dir():
        raise InputError(f"There is no folder {folder}.")
    result = packs_result(BASE_FOLDER, own_packs(), list_cases(Path(folder)))
    emit(result, as_json, _packs_show)
    for pack in result.packs:
        for says in old_names(Path(pack.folder)) if pack.folder and not pack.fault else ():
            note(says, err=True)
    if any(pack.fault for pack in result.packs):
        ctx.exit(InputError.exit_status)


def _packs_show(result: PacksResult) -> RenderableType:
    parts: list[RenderableType] = [title("In use, each on top of the one before")]
    for number, pack in enumerate(result.packs, 1):
        counts = ", ".join(f"{count} {name}" for name, count in pack.rows.items() if count)
        stands = pack.fault or counts
        name = pack.folder or "what Mending comes with"
        parts.append(indented(rows([(f"{number}.", name, stands)], wide=2)))
    if result.without_own:
        parts.append(title("Planned next, without words of your own"))
        cells = [
            (step, f"{count} case{'s' * (count != 1)}")
            for step, count in list(result.without_own.items())[:_MOST]
        ]
        parts += [indented(rows(cells, wide=1)), text("Write them: mending card STEP")]
    return Group(*parts)


# `mending help [TOPIC]`


@click.command("help")
@click.argument("topic", required=False, shell_complete=options.complete_topics)
@click.pass_context
def help_command(ctx: click.Context, topic: str | None) -> None:
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


# `mending card STEP`


_HELP = "# What you type and click every day for {step}; these two lines go.\n# Places: {places}\n"


@click.command("card")
@click.argument("step", shell_complete=options.complete_steps)
@click.option("--line", "lines", multiple=True, help="A line to add at the end; repeatable.")
@click.option("--family", default="", metavar="FAMILY", help="Only for nt, linux or darwin.")
@options.as_json
def card_command(step: str, lines: tuple[str, ...], family: str, as_json: bool) -> None:
    """Write down how a step is done here, in the shop's own words: names and command lines of every
    day. They stand first on the step's card. Without --line an editor opens; an empty text takes
    them away.

    `{system-letter}` and other places in braces are filled from the case.
    """
    pack, folder = base_pack(), own_words()
    if step not in pack.steps:
        raise UsageError(f"There is no step called {step!r}.", "Steps: mending plan CASE")
    for line in lines:
        add_own_line(folder, pack, step, line, family)
    if not lines and interactive() and not as_json:
        _edit(pack, step, family)
    result = OwnCardResult(
        step=step, family=family, text=own_text(folder, step, family), file=str(folder / FILE)
    )
    emit(result, as_json, _shown)


def _edit(pack: Pack, step: str, family: str) -> None:
    """Let the text be edited until it fits, or is given up."""
    folder, places = own_words(), ", ".join(f"{{{name}}}" for name in PLACES)
    text = own_text(folder, step, family)
    while True:
        head = _HELP.format(step=step, places=places)
        edited = click.edit(head + text, extension=".txt")
        if edited is None:
            return
        ours = set(head.splitlines())
        text = "".join(f"{line}\n" for line in edited.splitlines() if line not in ours)
        try:
            keep_own_text(folder, pack, step, text, family)
        except UsageError as error:
            note(f"{error.says}", err=True)
            if not confirmed("Edit it again? Otherwise the old text stays.", default=True):
                draft = keep_draft(folder, step, text)
                raise UsageError(error.says, f"What you typed is kept in {draft}") from error
        else:
            return


def _shown(card: OwnCardResult) -> RenderableType:
    return show_own_card(card.step, card.text, card.file)
