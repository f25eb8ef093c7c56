"""The roof: parse, call, show, exit status.

Start-up is cheap: a command's module is imported only when that command runs, so this module and
`lazy` import nothing but click.
"""

import gc
import os
import sys

import click

from mending import __version__
from mending.cli.lazy import LazyGroup

COMMANDS = {
    "demo": ("demo", "make the sample workshop and run the whole job on it"),
    "open": ("case", "start a case"),
    "cases": ("lists", "list the cases in a folder"),
    "add": ("case", "attach a disk, an image or another piece of evidence to a case"),
    "signs": ("lists", "list what can be seen at a PC, and the answers"),
    "saw": ("saw", "record what was seen, or what somebody says of it"),
    "ask": ("reasons", "ask the most telling question next"),
    "trace": ("disk", "which phase of starting fails, check by check, and why"),
    "code": ("code", "explain a stop code, a status code or a message on the screen"),
    "crashes": ("evidence", "the crashes that kernel logs tell of, and what they mean"),
    "search": ("disk", "look over the whole disk for volumes, listed or not"),
    "files": ("disk", "compare the files a start needs with their packages' sums"),
    "rehearse": ("disk", "run the disk's own boot code and watch how far it gets"),
    "causes": ("reasons", "ranked causes, with the evidence for and against each"),
    "plan": ("reasons", "the order of steps, with minutes, needs and what is at stake"),
    "tried": ("steps", "record what a step reported"),
    "started": ("steps", "record a test start: does the PC start now?"),
    "work": ("work", "be led through a case, from the first question to its end"),
    "mend": ("mend", "carry out an offline repair, with an undo point"),
    "compare": ("copies", "what differs between two moments, hives or healthy copies"),
    "keep": ("copies", "save what starts a healthy PC, to mend it from later"),
    "copy": ("copies", "the most out of a failing drive, what matters first"),
    "gather": ("evidence", "just what diagnosis needs of a disk, in one file to send on"),
    "undo": ("mend", "take a repair back, or list the undo points"),
    "report": ("report", "write a case down, to be handed on"),
    "close": ("steps", "close a case: it works from cold, cause and fix are named"),
    "card": ("person", "the shop's own words about a step"),
    "packs": ("person", "the packs of knowledge in use, and what is wrong with them"),
    "config": ("person", "the settings, where they are, and what is wrong with them"),
    "complete": ("person", "what makes the tab key complete names in a shell"),
    "help": ("person", "explain phases, places, safety, exit statuses"),
}

_OBJECTS = 50_000
"""So many new objects before the first look for circles among them: loading modules makes none that
can be let go of, and looking every 700 objects takes a tenth of a short command.
"""


@click.group(
    cls=LazyGroup,
    rows=COMMANDS,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.version_option(__version__, prog_name="mending")
@click.option("--color", is_flag=True, help="Colours also into a pipe, and whatever NO_COLOR says.")
@click.pass_context
def program(context: click.Context, color: bool) -> None:
    """Find out why a PC does not start, plan the cheapest safe repair, do the offline part and
    prove it.

    A TARGET is a disk image, a block device, the folder of a mounted system, or a case, which is a
    folder, too. Every command takes --json, but for `help` and `complete`.
    """
    context.color = True if color else None
    if context.invoked_subcommand is None:
        click.echo(context.get_help())


def _open_closed_streams() -> None:
    """Streams that were closed before the program began lead nowhere: what is opened later must not
    get their numbers, or a disk would be written what was meant for people.
    """
    for number, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        if getattr(sys, name) is None:
            handle = os.open(os.devnull, os.O_RDWR)
            if handle != number:
                os.dup2(handle, number)
                os.close(handle)
            setattr(sys, name, open(number, mode, closefd=False))  # noqa: SIM115 - a number


def main() -> None:
    """Run the program; the only place that turns errors into sentences and exit statuses."""
    gc.set_threshold(_OBJECTS)
    _open_closed_streams()
    as_json = "--json" in sys.argv[1:]
    try:
        status = program.main(standalone_mode=False, prog_name="mending")
    except click.exceptions.Exit as done:
        status = done.exit_code
    except Exception as error:  # noqa: BLE001 - the border: ours become sentences
        from mending.cli import output  # noqa: PLC0415 - lazy: only a failure needs it

        status = output.status_of(error, as_json)
    except KeyboardInterrupt:
        status = 130
    sys.exit(_after_output(status if isinstance(status, int) else 0, as_json))


def _after_output(status: int, as_json: bool) -> int:
    """The exit status once everything that was printed was given out: a full disk behind standard
    output shows only then.
    """
    try:
        for stream in (sys.stdout, sys.stderr):
            if stream is not None:
                stream.flush()
    except (OSError, ValueError):
        from mending.cli import output  # noqa: PLC0415 - lazy: only a failure needs it

        return output.flushed_or_told(as_json) or status
    return status
