"""Whether the rows of a pack fit together: signs, clues, causes. Steps and visits:
`check_steps`.
"""

import re
from collections.abc import Iterator, Mapping

from mending.knowledge.cards import card_faults
from mending.knowledge.schema import UNKNOWN, Cause, Pack, Sign
from mending.knowledge.steps import Need, ReportKind, Step, answers_of
from mending.model import PHASES, REPAIRS, Place

# Whether the steps of a pack fit together, and can be done at all.


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
    others = (*step.after, *step.after_if_possible)
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
    waiting = [*step.after, *step.after_if_possible]
    while waiting:
        name = waiting.pop()
        if name == step.id:
            return True
        if name not in seen and name in pack.steps:
            seen.add(name)
            waiting += [*pack.steps[name].after, *pack.steps[name].after_if_possible]
    return False


_TELLS = 0.02
"""A sign whose answers no cause makes likelier by this tells nothing."""


def check_pack(pack: Pack) -> list[str]:
    """Every fault, each with file, table and key; empty for a sound pack."""
    rows = [*_signs(pack), *_screens(pack), *_clues(pack), *_causes(pack)]
    faults = [*rows, *step_faults(pack), *card_faults(pack)]
    return faults or [*_whole(pack)]  # what is wrong in a row may not be reckoned with


def _signs(pack: Pack) -> Iterator[str]:
    for name, rows in (("facts", pack.facts), ("signs", pack.signs)):
        for sign in rows.values():
            where = f"{name}.toml, {name[:-1]} {sign.id}"
            if UNKNOWN in sign.answers:
                yield f"{where}: `{UNKNOWN}` is always an answer and is not written down."
            if len(sign.answers) < 2 or any(answer.usual <= 0 for answer in sign.answers.values()):
                yield f"{where}: at least two answers are needed, each with `usual` above 0."
            yield from _implied(pack, sign, where)
            yield from _said(sign, where)
            yield from need_faults(pack, sign.not_asked_if, f"{where}, not_asked_if")


def _said(sign: Sign, where: str) -> Iterator[str]:
    for answer, row in sign.answers.items():
        if row.denied and row.denied not in sign.answers:
            yield f"{where}, {answer}, denied: {row.denied!r} is no answer of it."
        if row.part_of and row.part_of not in sign.answers:
            yield f"{where}, {answer}, part_of: {row.part_of!r} is no answer of it."
        if any(not text.replace("|", " ").strip() for text in row.words):
            yield f"{where}, {answer}, words: a phrase without a word."
        if row.reaches and row.stops_before and row.reaches.rank >= row.stops_before.rank:
            yield f"{where}, {answer}: it cannot reach {row.reaches} and stop before that."


def _implied(pack: Pack, sign: Sign, where: str) -> Iterator[str]:
    for answer, row in sign.answers.items():
        for name, implied in row.implies.items():
            question = pack.question(name)
            if question is None or implied not in question.answers:
                yield (
                    f"{where}, {answer}, implies: there is no fact or sign {name!r} with the answer"
                    f" {implied!r}."
                )


def _screens(pack: Pack) -> Iterator[str]:
    """Of a sign that screens answer every answer is one."""
    told = {screen.answers[0] for screen in pack.screens.values()}
    for name in sorted(told):
        for answer in pack.signs[name].answers:
            if f"{name}={answer}" not in pack.screens:
                yield f"screens.toml: there is no row for {name}={answer}."
    for screen in pack.screens.values():
        yield from (
            f"screens.toml, screen {screen.shown}, reports: there is no step {step!r}."
            for step in screen.reports
            if step not in pack.steps
        )
        if bool(screen.opens) is not bool(screen.how):
            yield f"screens.toml, screen {screen.shown}: `opens` and `how` go together."
        if any(minutes < 0 for minutes in screen.opens.values()):
            yield f"screens.toml, screen {screen.shown}, opens: minutes must not be below 0."


def _clues(pack: Pack) -> Iterator[str]:
    told = {name for cause in pack.causes.values() for name in cause.records}
    for clue in pack.clues.values():
        where = f"clues.toml, clue {clue.id}"
        if not 0 < clue.usual < 1:
            yield f"{where}: `usual` must be between 0 and 1."
        if clue.id not in told:
            yield f"{where}: no cause makes it more or less likely."


def _causes(pack: Pack) -> Iterator[str]:
    for cause in pack.causes.values():
        where = f"causes.toml, cause {cause.id}"
        if cause.weight not in pack.grades.weights:
            yield f"{where}: weight {cause.weight!r} is no grade."
        if not any(cause.id in step.fixes for step in pack.steps.values()):
            yield f"{where}: no step fixes it."
        if any(weight <= 0 for weight in cause.stops.values()):
            yield f"{where}, stops: the weights must be above 0."
        yield from _shows(pack, cause, where)
        yield from _likelier(pack, cause, where)
        yield from (
            f"{where}, records: there is no clue {clue!r}."
            for clue in cause.records
            if clue not in pack.clues
        )
        yield from grade_faults(pack, cause.records, f"{where}, records")
        if cause.missed_by_trace:
            yield from grade_faults(pack, {"missed_by_trace": cause.missed_by_trace}, where)


def _shows(pack: Pack, cause: Cause, where: str) -> Iterator[str]:
    for name, answers in cause.shows.items():
        sign = pack.signs.get(name)
        if sign is None:
            yield f"{where}, shows.{name}: there is no such sign."
            continue
        yield from grade_faults(pack, answers, f"{where}, shows.{name}")
        yield from (
            f"{where}, shows.{name}: {answer!r} is no answer of it."
            for answer in answers
            if answer not in sign.answers
        )
        total = sum(pack.grades.chances.get(grade, 0) for grade in answers.values())
        if total > 1 or (total == 0 and answers):
            yield (
                f"{where}, shows.{name}: the chances add up to {total:g}; they must be above 0 and"
                " at most 1."
            )


def _likelier(pack: Pack, cause: Cause, where: str) -> Iterator[str]:
    for name, rows in cause.likelier.items():
        if name not in pack.facts:
            yield f"{where}, likelier: there is no fact {name!r}."
            continue
        for answer, odds in rows.items():
            if answer not in pack.facts[name].answers:
                yield f"{where}, likelier.{name}: {answer!r} is no answer of it."
            if odds not in pack.grades.odds:
                yield f"{where}, likelier.{name}.{answer}: {odds!r} is no grade."


def _tells_nothing(pack: Pack, sign: Sign) -> bool:
    usual = sign.shares
    given = [
        pack.answer_chances(cause, sign) for cause in pack.causes.values() if sign.id in cause.shows
    ]
    return all(
        abs(chances[name] - share) < _TELLS for chances in given for name, share in usual.items()
    )


def _whole(pack: Pack) -> Iterator[str]:
    yield from (
        f"signs.toml, sign {sign.id}: no cause makes it more or less likely."
        for sign in pack.signs.values()
        if _tells_nothing(pack, sign)
    )
    both = set(pack.facts) & set(pack.signs)
    yield from (f"signs.toml, sign {name}: a fact has the same name." for name in sorted(both))
    yield from (
        f"visits.toml: there is no row for {place}." for place in Place if place not in pack.visits
    )
    phases = {cause.phase for cause in pack.causes.values()}
    yield from (
        f"causes.toml: no cause has the phase {phase}." for phase in PHASES if phase not in phases
    )
