"""Steps that somebody says were done already, and what came of them.

"We swapped the memory, no difference" is a report of a step: neither a change before the trouble
nor a state of the PC. The words that name the step are taken by it, unless an answer holds words of
its outcome, too ("another screen shows the same").
"""

from collections.abc import Callable, Iterator, Mapping, Sequence

import msgspec

from mending.knowledge import Pack, ReportKind, Step
from mending.reason.phrases import Phrase, phrase_places
from mending.reason.speech import Clause
from mending.reason.tool_reports import report_of, tool_report

_SHORT = 4
"""Words of a clause that tells what came of the one before it."""


class TriedBefore(msgspec.Struct, frozen=True, kw_only=True):
    """A step that was done before.

    Attributes:
        report: what it reported. failed: the trouble was still there afterwards.
        words: what was said.
        sure: whether it may be taken without asking.
    """

    step: str
    report: ReportKind
    failed: bool
    words: str
    sure: bool = True


class StepWords(msgspec.Struct, frozen=True):
    """Where a clause names a step (`places`) and its outcome (`outcome`), by places of words."""

    clause: Clause
    places: frozenset[int]
    outcome: frozenset[int]

    def holds(self, clause: Clause, places: Sequence[int]) -> bool:
        """Whether words belong to the step, and not to what came of it."""
        taken = set(places)
        return clause is self.clause and bool(taken & self.places) and not taken & self.outcome


def steps_tried(
    pack: Pack,
    clauses: Sequence[Clause],
    names: Mapping[str, Sequence[Phrase]],
    failing: Callable[[Clause], frozenset[int] | None],
) -> Iterator[tuple[TriedBefore, tuple[StepWords, ...]]]:
    """The steps that were done without success, or whose own test was passed or not.

    Args:
        names: by step, how people say that it was done.
        failing: the words with which a clause says that something did not help, if it does.
    """
    for number, clause in enumerate(clauses):
        named = _named(clause, names)
        if named is None:
            continue
        step, places = named
        after = [each for each in clauses[number + 1 : number + 2] if _is_short(each)]
        found = [(each, at) for each in (clause, *after) if (at := failing(each)) is not None]
        row = tool_report(pack, clause.text)
        tested = report_of(pack.steps[step], row) if row is not None else None
        if pack.steps[step].fixes:
            tested = None
        if tested is None and not found:
            continue
        outcome = frozenset(at for each, where in found if each is clause for at in where)
        behind = [StepWords(each, frozenset(), at) for each, at in found if each is not clause]
        report = tested or _outcome(pack.steps[step])
        yield (
            TriedBefore(step=step, report=report, failed=bool(found), words=clause.text),
            (StepWords(clause, places, outcome), *behind),
        )


def _is_short(clause: Clause) -> bool:
    """Whether it says hardly more than an outcome: "no change", not "still under warranty"."""
    return len(clause.text.split()) <= _SHORT


def _named(
    clause: Clause, names: Mapping[str, Sequence[Phrase]]
) -> tuple[str, frozenset[int]] | None:
    """The step that a clause names with most words, the closest together of these."""
    found = [
        (len(places), min(places) - max(places), step, frozenset(places))
        for step, phrases in names.items()
        for phrase in phrases
        if (places := phrase_places(clause.words, phrase))
    ]
    if not found:
        return None
    _, _, step, taken = max(found, key=lambda row: row[:2])
    return step, taken


def _outcome(step: Step) -> ReportKind:
    """What a step reported of which only is known that it did not help."""
    return ReportKind.DONE if step.fixes else ReportKind.NOTHING_WRONG
