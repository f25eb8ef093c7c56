"""Cases as a person reads them."""

from collections.abc import Sequence

from rich.console import Group, RenderableType

from mending.case import CaseResult, CasesResult
from mending.cli.show.console import indented, minute, plain_id, rows, text, title
from mending.reason import Statement

_MOST_WORDS, _MOST_LEFT = 240, 6
"""Characters of what somebody said that are shown again, and pieces that were not understood."""


def show_case(case: CaseResult) -> RenderableType:
    """One case as it stands."""
    cells: list[tuple[object, ...]] = [("opened", case.opened), ("disk", case.disk or "none yet")]
    cells += [(name, words) for name, words in case.shop.items()]
    cells += [("disk stops at", plain_id(case.failing_phase))] if case.failing_phase else []
    cells += [(name, answer) for name, answer in case.facts.items()]
    cells += [(name, f'"{words}"') for name, words in case.notes.items()]
    cells += [(f"saw {name}", answer) for name, answer in case.seen.items()]
    cells += [("saw code", code) for code in case.codes]
    left = [words for said in case.said for words in said.left][-_MOST_LEFT:]
    cells += [("not understood", f'"{_short(words)}"') for words in left]
    cells += [
        (f"tried {attempt.step}", " ".join([attempt.report, *attempt.codes, attempt.note]).strip())
        for attempt in case.tried
    ]
    cells += [("test start", start.says) for start in case.starts]
    cells += [
        (f"note on {each.about}" if each.about else "note", f'"{_short(each.text)}"')
        for each in case.remarks
    ]
    cells += _watch(case)
    if case.handed_over is not None:
        cells += [
            ("handed over to", case.handed_over.to),
            ("held to be wrong", case.handed_over.cause),
        ]
    if case.closed is not None:
        cells += [
            ("closed", case.closed.at),
            ("cause", case.closed.cause),
            ("fix", case.closed.fix),
        ]
        minutes = case.closed.minutes
        cells += [("minutes of work", f"{minutes:g}")] if minutes is not None else []
        cells += [(f"put back {step}", said) for step, said in case.closed.put_back.items()]
    parts: list[RenderableType] = [text(case.warning, "warning")] if case.warning else []
    parts += _contradictions(case)
    return Group(title(f"case {case.name}"), *parts, indented(rows(cells)), *_next(case))


def show_recorded(case: CaseResult, what: Sequence[tuple[str, str]]) -> RenderableType:
    """What was recorded just now, and what makes sense next; the whole case is shown by `cases`."""
    warning = [text(case.warning, "warning")] if case.warning else []
    cells = [(name, f"{says}, recorded") for name, says in what]
    return Group(*warning, *_contradictions(case), rows(cells), *_next(case))


def _next(case: CaseResult) -> list[RenderableType]:
    return [text(f"next: mending {case.next}", "bold")] if case.next else []


def _contradictions(case: CaseResult) -> list[RenderableType]:
    parts: list[RenderableType] = []
    for pair in case.contradictions:
        says = f"These cannot both be right: {pair.evidence} / {pair.other}."
        parts += [text(says, "warning"), text("  Take one back with NAME=unknown.")]
    return parts


def _watch(case: CaseResult) -> list[tuple[str, str]]:
    watched = case.watched
    if watched is None:
        return []
    guess = "" if watched.told else " (as is usual; nobody told)"
    says = (
        f"runs for {watched.hours:g} hours now; it used to fail after {watched.usual_hours:.3g}"
        f"{guess}: mended by what was done with a chance of {watched.mended:.0%}"
    )
    return [("under watch", says)]


def show_statement(statement: Statement) -> RenderableType:
    """What was understood of somebody's words, and what was not."""
    numbered = [
        (f"{number}{'' if each.sure else '?'}", each)
        for number, each in enumerate(statement.readings, 1)
    ]
    sure = [f"{number} {each.says}" for number, each in numbered if each.sure]
    unsure = [f"{number} {each.says}" for number, each in numbered if not each.sure]
    unsure += [f"{name}={'|'.join(answers)}" for name, answers in statement.unclear.items()]
    codes = [f"{code.words}" for code in statement.codes]
    cells = [("understood", ", ".join(sure) or "nothing that has a question here")]
    if statement.before:
        first = ", ".join(answer.answer for answer in statement.before)
        cells += [("before that", f"the screen showed {first}; both are kept")]
    cells += [("codes", "; ".join(codes))] if codes else []
    cells += [("not sure, not taken", ", ".join(unsure))] if unsure else []
    if statement.left:
        left = "; ".join(f'"{_short(words)}"' for words in statement.left[:_MOST_LEFT])
        cells += [("not understood", left)]
    return Group(text(f'"{_short(statement.text)}"'), indented(rows(cells)))


def _short(words: str) -> str:
    return words if len(words) <= _MOST_WORDS else f"{words[:_MOST_WORDS]} ..."


def show_cases(result: CasesResult) -> RenderableType:
    """One line a case."""
    if not result.cases:
        return text("No cases here.")
    order = ("open", "waiting", "closed")
    listed = sorted(result.cases, key=lambda case: order.index(case.stands))
    cells = [
        (case.name, case.stands, _stand(case), len(case.tried), minute(case.opened))
        for case in listed
    ]
    heads = ("case", "stands", "", "steps tried", "opened")
    torn = [
        text(f"{case.name}: {case.warning}", "warning") for case in result.cases if case.warning
    ]
    return Group(rows(cells, heads, wide=2, right=(3,), drop=(4, 3)), *torn)


def _stand(case: CaseResult) -> str:
    if case.closed is not None:
        return case.closed.cause
    if case.handed_over is not None:
        return f"for {case.handed_over.to}"
    if case.works:
        return "works again, to be closed"
    if case.starts and case.starts[-1].watch:
        return "starts, under watch"
    if case.stands == "waiting":
        return "for a test start"
    return f"disk stops at {plain_id(case.failing_phase)}" if case.failing_phase else ""
