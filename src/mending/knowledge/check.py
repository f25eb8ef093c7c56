"""Whether the rows of a pack fit together."""

from collections.abc import Iterator, Mapping

from mending.knowledge.schema import UNKNOWN, Cause, Pack, Sign, Step
from mending.model import PHASES, Place


def check_pack(pack: Pack) -> list[str]:
    """Every fault, each with file, table and key; empty for a sound pack."""
    return [*_signs(pack), *_clues(pack), *_causes(pack), *_steps(pack), *_whole(pack)]


def _signs(pack: Pack) -> Iterator[str]:
    for name, rows in (("facts", pack.facts), ("signs", pack.signs)):
        for sign in rows.values():
            where = f"{name}.toml, {name[:-1]} {sign.id}"
            if UNKNOWN in sign.answers:
                yield f"{where}: `{UNKNOWN}` is always an answer and is not written down."
            if len(sign.answers) < 2 or any(answer.usual <= 0 for answer in sign.answers.values()):
                yield f"{where}: at least two answers are needed, each with `usual` above 0."


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
        yield from _shows(pack, cause, where)
        yield from (f"{where}, records: there is no clue {clue!r}." for clue in cause.records if clue not in pack.clues)
        yield from _grades(pack, cause.records, f"{where}, records")


def _shows(pack: Pack, cause: Cause, where: str) -> Iterator[str]:
    for name, answers in cause.shows.items():
        sign = pack.signs.get(name)
        if sign is None:
            yield f"{where}, shows.{name}: there is no such sign."
            continue
        yield from _grades(pack, answers, f"{where}, shows.{name}")
        yield from (
            f"{where}, shows.{name}: {answer!r} is no answer of it." for answer in answers if answer not in sign.answers
        )
        total = sum(pack.grades.chances.get(grade, 0) for grade in answers.values())
        if total > 1 or (total == 0 and answers):
            yield f"{where}, shows.{name}: the chances add up to {total:g}; they must be above 0 and at most 1."


def _steps(pack: Pack) -> Iterator[str]:
    for step in pack.steps.values():
        where = f"steps.toml, step {step.id}"
        if step.minutes <= 0:
            yield f"{where}: minutes must be above 0."
        for name, answer in step.needs.items():
            yield from _need(pack.facts, name, answer, where)
        for key, rows in (("fixes", step.fixes), ("finds", step.finds)):
            yield from (f"{where}, {key}: there is no cause {cause!r}." for cause in rows if cause not in pack.causes)
            yield from _grades(pack, rows, f"{where}, {key}")
        yield from (f"{where}, after: there is no step {other!r}." for other in step.after if other not in pack.steps)
        if _in_circle(pack, step):
            yield f"{where}, after: the order goes in a circle."


def _need(facts: Mapping[str, Sign], name: str, answer: str, where: str) -> Iterator[str]:
    if name not in facts:
        yield f"{where}, needs: there is no fact {name!r}."
    elif answer not in facts[name].answers:
        yield f"{where}, needs.{name}: {answer!r} is no answer of it."


def _grades(pack: Pack, rows: Mapping[str, str], where: str) -> Iterator[str]:
    yield from (
        f"{where}.{key}: {grade!r} is no grade." for key, grade in rows.items() if grade not in pack.grades.chances
    )


def _in_circle(pack: Pack, step: Step) -> bool:
    seen: set[str] = set()
    waiting = list(step.after)
    while waiting:
        name = waiting.pop()
        if name == step.id:
            return True
        if name not in seen and name in pack.steps:
            seen.add(name)
            waiting += pack.steps[name].after
    return False


def _whole(pack: Pack) -> Iterator[str]:
    told = {name for cause in pack.causes.values() for name in cause.shows}
    yield from (
        f"signs.toml, sign {name}: no cause makes it more or less likely." for name in pack.signs if name not in told
    )
    yield from (f"visits.toml: there is no row for {place}." for place in Place if place not in pack.visits)
    phases = {cause.phase for cause in pack.causes.values()}
    yield from (f"causes.toml: no cause has the phase {phase}." for phase in PHASES if phase not in phases)
