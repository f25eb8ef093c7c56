"""Cases and signs as a person reads them."""

from collections.abc import Iterable

from rich.console import Group, RenderableType

from mending.case import CaseResult, CasesResult
from mending.cli.show.console import indented, plain_id, rows, text, title
from mending.knowledge import Sign


def show_case(case: CaseResult) -> RenderableType:
    """One case as it stands."""
    cells: list[tuple[object, ...]] = [("opened", case.opened), ("disk", case.disk or "none yet")]
    cells += [("disk stops at", plain_id(case.failing_phase))] if case.failing_phase else []
    cells += [(name, answer) for name, answer in case.facts.items()]
    cells += [(name, f'"{words}"') for name, words in case.notes.items()]
    cells += [(f"saw {name}", answer) for name, answer in case.seen.items()]
    cells += [(f"tried {one.step}", " ".join([one.report, *one.codes, one.note]).strip()) for one in case.tried]
    cells += [("test start", "works" if one.works else "does not start") for one in case.starts]
    return Group(title(f"case {case.name}"), indented(rows(cells)))


def show_cases(result: CasesResult) -> RenderableType:
    """One line a case."""
    if not result.cases:
        return text("No cases here.")
    cells = [(one.name, _stand(one), len(one.tried), one.opened) for one in result.cases]
    return rows(cells, ("case", "stands", "steps tried", "opened"), wide=1, right=(2,))


def _stand(case: CaseResult) -> str:
    if case.works:
        return "works again"
    return f"disk stops at {plain_id(case.failing_phase)}" if case.failing_phase else "open"


def show_signs(signs: Iterable[Sign]) -> RenderableType:
    """Every sign with its answers."""
    parts: list[RenderableType] = []
    for sign in signs:
        cells = [(f"{sign.id}={name}", answer.says) for name, answer in sign.answers.items()]
        parts += [title(sign.asks), indented(rows(cells))]
    return Group(*parts, text("Answer `unknown` where nobody can tell.", "dim"))
