"""`mending open CASE`"""

from collections.abc import Mapping
from pathlib import Path

import click

from mending.boot import FolderGrounds
from mending.case import Case, add_evidence, case_result, is_case, learned, open_case
from mending.cli import asking, options, world
from mending.cli.commands.trace import look
from mending.cli.records import read_case_if_possible
from mending.cli.show import emit, show_case
from mending.cli.targets import Target, opened_any
from mending.disk import survey
from mending.knowledge import Pack, base_pack
from mending.model import RefusedError
from mending.source import FolderSource

_NOTES = ("screen", "since", "changed")


@click.command("open")
@options.case_argument
@click.option("--disk", help="The PC's disk: an image, a block device, or the folder where its system is mounted.")
@click.option(
    "--fact", "facts", multiple=True, metavar="NAME=ANSWER", help="What is known, e.g. firmware=uefi; repeatable."
)
@click.option("--screen", help="What the screen shows, word for word.")
@click.option("--since", help="Since when, in your own words.")
@click.option("--changed", help="What changed just before, in your own words.")
@click.option("--quiet", is_flag=True, help="Ask nothing.")
@options.as_json
def command(
    case: str, disk: str | None, facts: tuple[str, ...], screen: str | None, since: str | None, changed: str | None,
    quiet: bool, as_json: bool,
) -> None:  # fmt: skip
    """Start a case. Asks the few things that matter, or takes them as options; unknown is always an answer."""
    pack = base_pack()
    if is_case(Path(case)):
        raise RefusedError(f"{case} is a case already.", "Choose another name, or go on with it.")
    known = options.pairs(facts)
    notes = {name: words for name, words in zip(_NOTES, (screen, since, changed), strict=True) if words}
    if world.interactive() and not (quiet or as_json):
        known, notes = _take_in(pack, known, notes)
    emit(case_result(start(case, disk, pack, known, notes)), as_json, show_case)


def start(folder: str, disk: str | None, pack: Pack, facts: Mapping[str, str], notes: Mapping[str, str]) -> Case:
    """Open a case, attach its disk and trace it."""
    if disk is not None:
        with opened_any(disk) as source:  # before anything is made: what is no disk must not leave half a case
            FolderGrounds(source) if isinstance(source, FolderSource) else survey(source)
    first = learned(pack, facts, notes, world.now())
    case = open_case(Path(folder), [first], world.now())
    return attach(case, disk, as_disk=True) if disk is not None else case


def attach(case: Case, path: str, as_disk: bool = False) -> Case:
    """Attach evidence; a disk is traced at once, and again when it becomes known what firmware remembers.

    Anything else is looked through for crashes.

    Args:
        as_disk: take it for a disk, whatever it begins with.
    """
    grown = add_evidence(case, world.hand(), path, as_disk)
    retraced = {"disk", "variables"} if grown.state.disk else {"disk"}
    sort = grown.state.evidence[-1].sort
    if sort not in {"disk", "variables"}:
        return read_case_if_possible(grown)
    if sort not in retraced:
        return grown
    target = Target(str(grown.folder))
    look(target)
    return target.case or grown


def _take_in(pack: Pack, facts: Mapping[str, str], notes: Mapping[str, str]) -> tuple[dict[str, str], dict[str, str]]:
    answered, told = dict(facts), dict(notes)
    for fact in pack.facts.values():
        if fact.take_in and fact.id not in answered:
            answered[fact.id] = asking.choose_answer(fact)
    questions = {"screen": "What does the screen show, word for word?", "since": "Since when?"}
    questions["changed"] = "What was added, updated or changed just before?"
    for name, question in questions.items():
        words = "" if name in told else click.prompt(question, default="", show_default=False)
        if words:
            told[name] = words
    return answered, told
