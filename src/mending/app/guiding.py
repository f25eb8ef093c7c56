"""The conversation that leads through a case: answers understood and recorded, repairs done."""

from collections.abc import Callable

import msgspec

from mending.app.host import Host
from mending.app.listening import take, told_apart, understand_notes
from mending.app.mending import carry_out_repair, plan_repair
from mending.app.targets import NamedTarget
from mending.case import Case, CaseResult, listed, load_case, tried
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
from mending.knowledge import Codes, Pack, ReportKind
from mending.model import RepairFailedError, UsageError
from mending.reason import Statement, report_of, tool_report
from mending.repair.base import MendSettings
from mending.repair.run import MendResult, Preview

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
