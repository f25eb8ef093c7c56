"""Whether the steps of a pack fit together, and can be done at all."""

import re
from collections.abc import Iterator, Mapping

from mending.knowledge.schema import Pack
from mending.knowledge.steps import Need, ReportKind, Step, answers_of
from mending.model import REPAIRS


def step_faults(pack: Pack) -> Iterator[str]:
    """Every fault of steps and visits, each with file, table and key."""
    for step in pack.steps.values():
        where = f"steps.toml, step {step.id}"
        if step.minutes <= 0 or step.waits < 0:
            yield f"{where}: minutes must be above 0, and waits not below."
        yield from need_faults(pack, step.needs, where)
        yield from _names(pack, step, where)
        yield from _gives(pack, step, where)
        if step.repair is not None and REPAIRS[step.repair].step != step.id:
            yield f"{where}, repair: the step of {step.repair} is {REPAIRS[step.repair].step}."
        yield from _possible(pack, step, where)
        if step.finds and ReportKind.NOTHING_WRONG not in step.reports:
            yield f"{where}, reports: what does it say when it finds nothing wrong?"
        if _in_circle(pack, step):
            yield f"{where}, after: the order goes in a circle."
    yield from _precautions(pack)
    yield from _tool_reports(pack)
    for resort in pack.resorts.values():
        yield from (
            f"resorts.toml, resort {resort.id}: there is no step {name!r}."
            for name in resort.steps
            if name not in pack.steps
        )
    for visit in pack.visits.values():
        where = f"visits.toml, visit {visit.place}"
        yield from need_faults(pack, visit.needs, where)
        for way in visit.ways:
            yield from need_faults(pack, way.when, f"{where}, ways")


def _tool_reports(pack: Pack) -> Iterator[str]:
    for row in pack.tool_reports.values():
        where = f"tool_reports.toml, report {row.id}"
        try:
            re.compile(row.pattern)
        except re.error as error:
            yield f"{where}: the pattern is none: {error}."
        if row.why is not None and row.report is not ReportKind.NOT_RUN:
            yield f"{where}: only what could not be run has a reason for that."


def _precautions(pack: Pack) -> Iterator[str]:
    for row in pack.precautions.values():
        where = f"precautions.toml, precaution {row.id}"
        yield from need_faults(pack, row.when, where)
        yield from (
            f"{where}: there is no step {name!r}."
            for name in (row.step, *row.before)
            if name not in pack.steps
        )
        if row.cause and row.cause not in pack.causes:
            yield f"{where}, cause: there is no cause {row.cause!r}."
        if bool(row.cause) is not (0 < row.above < 1):
            yield f"{where}: `cause` and `above`, between 0 and 1, go together."
        if not row.before and not row.straining:
            yield f"{where}: nothing waits for it."


def grade_faults(pack: Pack, rows: Mapping[str, str], where: str) -> Iterator[str]:
    """Words that are no grade of likelihood."""
    yield from (
        f"{where}.{key}: {grade!r} is no grade."
        for key, grade in rows.items()
        if grade not in pack.grades.chances
    )


def need_faults(pack: Pack, needs: Mapping[str, Need], where: str) -> Iterator[str]:
    """Facts, signs or answers that are not there."""
    for name, need in needs.items():
        question = pack.question(name)
        if question is None:
            yield f"{where}, needs: there is no fact or sign {name!r}."
            continue
        yield from (
            f"{where}, needs.{name}: {answer!r} is no answer of it."
            for answer in answers_of(need)
            if answer not in question.answers
        )


def _names(pack: Pack, step: Step, where: str) -> Iterator[str]:
    for key, rows in (("fixes", step.fixes), ("finds", step.finds)):
        yield from (
            f"{where}, {key}: there is no cause {cause!r}."
            for cause in rows
            if cause not in pack.causes
        )
        yield from grade_faults(pack, rows, f"{where}, {key}")
    others = (*step.after, *step.rather_after)
    yield from (
        f"{where}, after: there is no step {other!r}."
        for other in others
        if other not in pack.steps
    )


def _gives(pack: Pack, step: Step, where: str) -> Iterator[str]:
    for name, answer in step.gives.items():
        question = pack.question(name)
        if question is None or answer not in question.answers:
            yield f"{where}, gives: there is no fact or sign {name!r} with the answer {answer!r}."
        elif any(
            name in needs and answer in answers_of(needs[name]) for needs in _all_needs(pack, step)
        ):
            yield f"{where}, gives.{name}: it needs what it gives."


def _all_needs(pack: Pack, step: Step) -> list[Mapping[str, Need]]:
    """Of the step, and of its place."""
    return [
        step.needs,
        *(visit.needs for visit in pack.visits.values() if visit.place is step.place),
    ]


def _possible(pack: Pack, step: Step, where: str) -> Iterator[str]:
    """Needs that no PC can meet together: of the step, of its place, of steps that must come before
    it.
    """
    before = [other for name in step.after if (other := pack.steps.get(name)) is not None]
    given = {name for step in before for name in step.gives}
    rows = [
        (name, answers_of(need))
        for each in (step, *before)
        for needs in _all_needs(pack, each)
        for name, need in needs.items()
    ]
    for name in sorted({name for name, _ in rows} - given):
        wanted = [set(answers) for other, answers in rows if other == name]
        if not set.intersection(*wanted):
            yield (
                f"{where}, needs.{name}: no PC can have all of"
                f" {', '.join(sorted(set.union(*wanted)))}."
            )
    families = [set(answers_of(step.needs["family"]))] if "family" in step.needs else []
    struck = [set(pack.causes[cause].families) for cause in step.fixes if cause in pack.causes]
    if families and struck and all(hit and not hit & families[0] for hit in struck):
        yield f"{where}, fixes: no cause of them strikes that family."


def _in_circle(pack: Pack, step: Step) -> bool:
    seen: set[str] = set()
    waiting = [*step.after, *step.rather_after]
    while waiting:
        name = waiting.pop()
        if name == step.id:
            return True
        if name not in seen and name in pack.steps:
            seen.add(name)
            waiting += [*pack.steps[name].after, *pack.steps[name].rather_after]
    return False
