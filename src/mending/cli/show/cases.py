"""Cases as a person reads them."""

from rich.console import Group, RenderableType

from mending.case import CaseResult, CasesResult
from mending.cli.show.console import indented, plain_id, rows, text, title


def show_case(case: CaseResult) -> RenderableType:
    """One case as it stands."""
    cells: list[tuple[object, ...]] = [("opened", case.opened), ("disk", case.disk or "none yet")]
    cells += [("disk stops at", plain_id(case.failing_phase))] if case.failing_phase else []
    cells += [(name, answer) for name, answer in case.facts.items()]
    cells += [(name, f'"{words}"') for name, words in case.notes.items()]
    cells += [(f"saw {name}", answer) for name, answer in case.seen.items()]
    cells += [
        (f"tried {attempt.step}", " ".join([attempt.report, *attempt.codes, attempt.note]).strip())
        for attempt in case.tried
    ]
    cells += [("test start", "works" if start.works else "does not start") for start in case.starts]
    parts = [text(case.warning, "yellow")] if case.warning else []
    return Group(title(f"case {case.name}"), *parts, indented(rows(cells)))


def show_cases(result: CasesResult) -> RenderableType:
    """One line a case."""
    if not result.cases:
        return text("No cases here.")
    cells = [(case.name, _stand(case), len(case.tried), case.opened) for case in result.cases]
    heads = ("case", "stands", "steps tried", "opened")
    torn = [text(f"{case.name}: {case.warning}", "yellow") for case in result.cases if case.warning]
    return Group(rows(cells, heads, wide=1, right=(2,), drop=(3, 2)), *torn)


def _stand(case: CaseResult) -> str:
    if case.works:
        return "works again"
    return f"disk stops at {plain_id(case.failing_phase)}" if case.failing_phase else "open"
