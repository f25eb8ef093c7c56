"""A conversation: prompts shown, lines taken, answers recorded, until nothing more is asked."""

from rich.console import RenderableType

from mending.app.guiding import WRITE, Guide
from mending.case import volumes_of
from mending.case.guide import Prompt, PromptKind, Reply, ReplyKind, parse
from mending.cli.asking.answers import Answers
from mending.cli.echo import note
from mending.cli.show.case.cards import show_volumes
from mending.cli.show.case.cases import show_statement
from mending.cli.show.case.guide import clock_words, show_card, show_explained, show_prompt
from mending.cli.show.console import say, text
from mending.cli.show.repairs import show_mend, show_written
from mending.model import MendingError, RefusedError, RepairFailedError, UsageError
from mending.repair.run import Preview

_TAKEN = {ReplyKind.NOTE: "noted", ReplyKind.CODE: "recorded"}
_CHOOSE = "Please give a number or a name from the list; `?` explains."
_UNCLEAR = {
    PromptKind.PUT_BACK: "Put it back and say done, or type why it stays.",
    PromptKind.MINUTES: "Please give a number of minutes, or an empty line.",
    PromptKind.WORDS: "Please say it in your own words, or give an empty line.",
}


def follow(guide: Guide, answers: Answers, quiet: bool = False) -> Prompt | None:
    """Ask until nothing more is asked; returns the prompt at which the person stopped."""
    while (prompt := guide.next()) is not None:
        if prompt.card is not None and not quiet:
            say(show_card(prompt.card, str(guide.case.folder)))
        planned = _planned(guide, prompt, quiet) if prompt.kind is PromptKind.REPAIR else None
        if not quiet:
            say(show_prompt(prompt))
        is_answered = False
        while not is_answered:
            line = answers(prompt)
            reply = parse(prompt, line) if line is not None else Reply(ReplyKind.STOP)
            if reply.kind is ReplyKind.STOP:
                return prompt
            if prompt.kind is PromptKind.TAKE_UP and reply.words == "no":
                return None
            try:
                is_answered = _take(guide, prompt, reply, planned, quiet)
            except (UsageError, RefusedError) as error:
                guide.misunderstood += isinstance(error, UsageError)
                _complain(error, quiet)
            except RepairFailedError as error:  # it was recorded
                _complain(error, quiet)
                is_answered = True
    return None


def _planned(guide: Guide, prompt: Prompt, quiet: bool) -> Preview | MendingError:
    """What a repair would write, shown before it is asked for; or why it cannot be done now."""
    try:
        planned = guide.preview(prompt)
    except (UsageError, RefusedError) as error:
        return error
    if not quiet:
        say(text(""), show_mend(planned.result()))
    return planned


def _complain(error: MendingError, quiet: bool) -> None:
    note(f"  {error.says} {error.hint}".rstrip(), err=quiet)


def _take(
    guide: Guide,
    prompt: Prompt,
    reply: Reply,
    planned: Preview | MendingError | None,
    quiet: bool,
) -> bool:
    """Do what a reply asks for; returns whether that answers the prompt.

    Raises:
        UsageError, RefusedError: it does not, and nothing was recorded.
        RepairFailedError: everything was put back, and that is recorded.
    """
    shown: tuple[RenderableType, ...] = ()
    if reply.kind is ReplyKind.EXPLAIN:
        shown = (show_explained(prompt),)
    elif reply.kind is ReplyKind.UNCLEAR:
        read = guide.read(prompt, reply.words)
        if read is None:
            raise UsageError(_UNCLEAR.get(prompt.kind, _CHOOSE))
        guide.take(prompt, read)
        shown = (text(f"  taken as: {read.words} (`back` takes it back)", "soft"),)
    elif planned is not None and reply == Reply(ReplyKind.ANSWER, WRITE):
        if isinstance(planned, MendingError):
            raise planned
        shown = (show_written(guide.mend(prompt, planned)),)
    else:
        statement = guide.take(prompt, reply)
        if reply.kind is ReplyKind.VOLUME and (volumes := volumes_of(guide.case.state)):
            shown = (show_volumes(volumes),)
        elif statement is not None:
            shown = (show_statement(statement.sure), text("  (`back` takes it back)", "soft"))
        elif reply.kind in _TAKEN:
            shown = (text(f"  {_TAKEN[reply.kind]}: {reply.words}", "soft"),)
    if not quiet:
        say(*shown)
    return reply.kind not in {ReplyKind.EXPLAIN, ReplyKind.NOTE, ReplyKind.VOLUME}


def clock(prompt: Prompt, minutes: float) -> str:
    """What stands below a step while it runs."""
    return clock_words(prompt.card, minutes) if prompt.card is not None else ""
