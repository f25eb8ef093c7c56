"""The roof: parse, call, show, exit status.

Start-up is cheap: a command's module is imported only when that command runs, so this module and `lazy` import
nothing but click.
"""

import sys

import click

from mending import __version__
from mending.cli.lazy import LazyGroup

COMMANDS = {
    "demo": "make the sample workshop and run the whole job on it",
    "open": "start a case",
    "cases": "list the cases in a folder",
    "add": "attach a disk, an image or another piece of evidence to a case",
    "signs": "list what can be seen at a PC, and the answers",
    "saw": "record what was seen",
    "ask": "ask the most telling question next",
    "trace": "which phase of starting fails, rung by rung, and why",
    "code": "explain a stop code, a status code or a message on the screen",
    "crashes": "the crashes that kernel logs tell of, and what they mean",
    "search": "look over the whole disk for volumes, listed or not",
    "files": "compare the files a start needs with their packages' sums",
    "rehearse": "run the disk's own boot code and watch how far it gets",
    "causes": "ranked causes, with the evidence for and against each",
    "plan": "the order of steps, with minutes, needs and what is at stake",
    "tried": "record what a step reported",
    "started": "record a test start: does the PC start now?",
    "work": "go through the plan one step at a time",
    "mend": "carry out an offline repair, with an undo point",
    "undo": "take a repair back, or list the undo points",
    "report": "write a page about a case",
}


@click.group(cls=LazyGroup, commands_help=COMMANDS, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="mending")
def program() -> None:
    """Find out why a PC does not start, plan the cheapest safe repair, do the offline part and prove it.

    A TARGET is a disk image, a block device, the folder of a mounted system, or a case, which is a folder, too.
    Every command takes --json.
    """


def main() -> None:
    """Run the program; the only place that turns errors into sentences and exit statuses."""
    as_json = "--json" in sys.argv[1:]
    try:
        status = program.main(standalone_mode=False, prog_name="mending")
    except click.exceptions.Exit as done:
        status = done.exit_code
    except Exception as error:  # noqa: BLE001 - the border: what is ours becomes a sentence, the rest is raised again
        from mending.cli.failing import status_of  # noqa: PLC0415 - lazy: only a failure needs it

        status = status_of(error, as_json)
    except KeyboardInterrupt:
        status = 130
    sys.exit(status if isinstance(status, int) else 0)
