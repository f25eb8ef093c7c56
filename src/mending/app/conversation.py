"""What a person says or chooses about a PC, told apart and recorded."""

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import TypeVar

import msgspec

from mending.app.host import Host
from mending.app.mending import carry_out_repair, plan_repair
from mending.app.targets import NamedTarget
from mending.case import Case, CaseResult, listed, listened, load_case, saw, tried
from mending.case.guide import (
    Prompt,
    PromptKind,
    Reply,
    ReplyKind,
    come_back,
    lead,
    note,
    passed_over,
    taken,
    taken_in_words,
)
from mending.crash.screens import SeenCode, codes_in
from mending.knowledge import Codes, Pack, ReportKind
from mending.model import Hand, RepairFailedError, UsageError, clean_text
from mending.reason import (
    Statement,
    TriedBefore,
    Understanding,
    UnderstoodAnswer,
    report_of,
    tool_report,
)
from mending.repair.base import MendSettings
from mending.repair.run import MendResult, Preview
from mending.source import read_file

_Row = TypeVar("_Row", UnderstoodAnswer, TriedBefore)

CODE = "code"
"""The name under which a code that a screen showed is given."""
_CHOSEN = re.compile(r"\s*([A-Za-z][A-Za-z0-9_-]*)\s*=\s*(.*)", re.DOTALL)
_SETTING = re.compile(
    r"\s*(?:[#;]|\[[^\]]*\]\s*$|[\w.-]+\s*=|[{}]|(?:menuentry|submenu|set|insmod|search|linux"
    r"|initrd|title|options|default|timeout)\s|(?:UUID=|LABEL=|PARTUUID=|/)\S*\s+\S+\s+\S+)"
)
_MOSTLY = 0.6
_SCREEN_BYTES = 8192
"""What a screen shows has no more."""
_LEADS = {"screen": "", "since": "since ", "changed": "after "}
"""What a note is about, put before its words: "update" alone is then what came before."""


class Told(msgspec.Struct, frozen=True, kw_only=True):
    """What was given in one go, told apart.

    Attributes:
        codes: those that a screen showed.
        said: whatever is in somebody's own words.
    """

    signs: Mapping[str, str] = {}
    facts: Mapping[str, str] = {}
    codes: tuple[SeenCode, ...] = ()
    said: tuple[str, ...] = ()


def told_apart(words: Sequence[str], pack: Pack, codes: Codes) -> Told:
    """Arguments as answers (`NAME=ANSWER`), codes (`code=0x7b`) and words of one's own.

    Raises:
        UsageError: a code that is not known, no answer behind a name, or nothing at all.
    """
    signs, facts, seen, said = dict[str, str](), dict[str, str](), list[SeenCode](), list[str]()
    for word in words:
        chosen = _CHOSEN.fullmatch(word)
        name, answer = chosen.groups() if chosen else ("", "")
        if not word.strip():
            raise UsageError("Nothing to record.", "See: mending signs")
        if chosen is None:
            said.append(word)
        elif not answer.strip():
            raise UsageError(f"There is no answer behind {word.strip()!r}.")
        elif name == CODE:
            seen += _codes(answer, codes)
        elif name in pack.facts and name not in pack.signs:
            facts[name] = answer
        else:
            signs[name] = answer
    return Told(signs=signs, facts=facts, codes=tuple(seen), said=tuple(said))


def _codes(text: str, codes: Codes) -> tuple[SeenCode, ...]:
    found = codes_in(text, codes)
    if not found:
        raise UsageError(
            f"No stop code, status code or message is known that {text!r} may be.",
            "See what is like it: mending code TEXT",
        )
    return found


def understand(said: Sequence[str], pack: Pack, codes: Codes) -> tuple[Statement, ...]:
    """What is understood of each text."""
    understanding = Understanding(pack, codes)
    return tuple(understanding.of(text) for text in said if text.strip())


def understand_notes(notes: Mapping[str, str], pack: Pack, codes: Codes) -> tuple[Statement, ...]:
    """What is understood of the notes that a case is opened with."""
    said = {name: text for name, text in notes.items() if text.strip()}
    understood = understand([_LEADS.get(name, "") + said[name] for name in said], pack, codes)
    return tuple(
        msgspec.structs.replace(statement, text=text)
        for statement, text in zip(understood, said.values(), strict=True)
    )


def take(case: Case, pack: Pack, hand: Hand, told: Told, statements: Sequence[Statement]) -> Case:
    """Record what was chosen and what was understood.

    Raises:
        UsageError: an unknown question or answer; then nothing is recorded.
    """
    grown = case
    implied = {
        name: answer
        for code in told.codes
        for name, answer in code.implies.items()
        if name not in case.state.seen
    }
    signs = {**implied, **told.signs}
    if signs or told.codes or told.facts:
        grown = saw(grown, pack, hand, signs, told.codes, told.facts)
    return listened(grown, hand, statements) if statements else grown


def hear_file(case: Case, pack: Pack, codes: Codes, host: Host) -> Case:
    """Understand a text that was attached last, if it is short enough to be what a screen shows."""
    newest = case.state.evidence[-1]
    if newest.sort != "text" or newest.copy is None or newest.bytes > _SCREEN_BYTES:
        return case
    text = read_file(case.place_of(newest, host.key), _SCREEN_BYTES).decode("utf-8", "replace")
    if _is_configuration(text):
        return case  # it is kept; nobody says it, and no screen shows it
    statements = understand([clean_text("; ".join(text.split("\n")))], pack, codes)
    told = [
        _only_codes(each) if each.codes else each
        for each in statements
        if each.codes or each.sure.signs or each.sure.facts
    ]
    return listened(case, host.hand, told) if told else case


def _is_configuration(text: str) -> bool:
    """Whether most lines have the form of settings, menus, tables of mounts or comments."""
    lines = [line for line in text.splitlines() if line.strip()]
    return sum(_SETTING.match(line) is not None for line in lines) > len(lines) * _MOSTLY


def _only_codes(statement: Statement) -> Statement:
    """What codes and messages imply: a screen does not speak as a caller does."""
    implied = {name for code in statement.codes for name in code.implies}
    kept = tuple(answer for answer in statement.signs if answer.question in implied)
    return msgspec.structs.replace(statement, signs=kept, facts=(), tried=())


def chosen_of(statement: Statement, turned: Collection[int]) -> Statement:
    """A statement of which somebody named the readings, by their numbers from 1, that are to be
    the other way round: struck out where they were sure, taken where they were not.
    """
    number = 0

    def turned_over(rows: Sequence[_Row]) -> tuple[_Row, ...]:
        nonlocal number
        kept = list[_Row]()
        for row in rows:
            number += 1
            if row.sure is not (number in turned):
                kept.append(msgspec.structs.replace(row, sure=True))
        return tuple(kept)

    signs, facts = turned_over(statement.signs), turned_over(statement.facts)
    return msgspec.structs.replace(
        statement, signs=signs, facts=facts, tried=turned_over(statement.tried)
    )


# The conversation that leads through a case: answers understood and recorded, repairs done.


_QUESTIONS = {PromptKind.WORDS, PromptKind.FACT, PromptKind.SIGN}
WRITE = "write"
"""The answer that lets Mending do a repair."""


class WorkResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="work/1"):
    """Where a conversation stands.

    Attributes:
        prompt: what is asked next; None where nothing is.
    """

    case: CaseResult
    prompt: Prompt | None


class Guide:
    """One conversation about a case.

    Args:
        settings: what repairs are allowed beyond the usual; asked for each.
        agreed: what the person at the keyboard says of what was understood.

    Attributes:
        misunderstood: how many answers were none.
    """

    def __init__(
        self,
        case: Case,
        pack: Pack,
        codes: Codes,
        host: Host,
        settings: Callable[[NamedTarget], MendSettings] = NamedTarget.settings,
        agreed: Callable[[Statement], Statement] = lambda statement: statement,
    ) -> None:
        self._agreed = agreed
        self.case, self.misunderstood, self._more = case, 0, False
        self._pack, self._codes, self._host, self._settings = pack, codes, host, settings

    def next(self) -> Prompt | None:
        """What is asked next; None once nothing is."""
        self.case, prompt = lead(self.case, self._pack, self._host.hand, self._more)
        self._more = self._more and prompt is not None and prompt.kind in _QUESTIONS
        return prompt

    def take(self, prompt: Prompt, reply: Reply) -> Statement | None:
        """Record what was replied; returns what was understood, where words were.

        Raises:
            UsageError, RefusedError, InputError: nothing was recorded.
        """
        pack, hand = self._pack, self._host.hand
        match reply.kind:
            case ReplyKind.ANSWER if prompt.kind is PromptKind.WORDS:
                return self._hear(prompt, reply.words)
            case ReplyKind.ANSWER:
                self.case = taken(self.case, pack, hand, prompt, reply.words)
            case ReplyKind.SKIP | ReplyKind.LATER:
                put_off = reply.kind is ReplyKind.LATER
                self.case = passed_over(self.case, pack, hand, prompt, put_off)
            case ReplyKind.ASK:
                self._more = True
            case ReplyKind.BACK:
                self.case = come_back(self.case, hand)
            case ReplyKind.NOTE:
                self.case = note(self.case, hand, prompt, reply.words)
            case ReplyKind.VOLUME:
                self.case = listed(self.case, hand, reply.words, more=True)
            case ReplyKind.CODE:
                told = told_apart([f"code={reply.words}"], pack, self._codes)
                self.case = take(self.case, pack, hand, told, ())
        return None

    def read(self, prompt: Prompt, words: str) -> Reply | None:
        """A reply in somebody's own words at a step: what the tool said is its report; None where
        no tool speaks so.

        Raises:
            UsageError: it is no report yet, or none of this step; says what to do.
        """
        told = tool_report(self._pack, words) if prompt.card is not None else None
        if told is None or prompt.card is None:
            return None
        report = report_of(self._pack.steps[prompt.card.step], told)
        if report is None:
            raise UsageError(told.says)
        return Reply(ReplyKind.ANSWER, str(told.why or report))

    def _hear(self, prompt: Prompt, words: str) -> Statement:
        statement = understand_notes({prompt.about: words}, self._pack, self._codes)[0]
        statement = self._agreed(statement)
        self.case = taken_in_words(self.case, self._host.hand, prompt, statement)
        return statement

    def preview(self, prompt: Prompt) -> Preview:
        """What the repair of a prompt would write.

        Raises:
            RefusedError, UsageError, InputError: it cannot be done, or not now.
        """
        target = NamedTarget(str(self.case.folder), self._host)
        assert prompt.card is not None and prompt.card.repair is not None
        return plan_repair(target, self._host, prompt.card.repair, self._settings(target))

    def mend(self, prompt: Prompt, planned: Preview) -> MendResult:
        """Do it. What failed and was rolled back is recorded as not mended.

        Raises:
            RepairFailedError, RefusedError, InputError
        """
        target = NamedTarget(str(self.case.folder), self._host)
        try:
            return carry_out_repair(target, self._host, planned)
        except RepairFailedError as error:
            self.case = tried(
                self.case,
                self._pack,
                self._host.hand,
                prompt.about,
                ReportKind.NOT_MENDED,
                (),
                error.says,
            )
            raise
        finally:
            self.case = load_case(self.case.folder)
