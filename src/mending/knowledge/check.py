"""Whether the rows of a pack fit together: signs, clues, causes. Steps and visits:
`check_steps`.
"""

from collections.abc import Iterator

from mending.knowledge.cards import card_faults
from mending.knowledge.check_steps import grade_faults, need_faults, step_faults
from mending.knowledge.schema import UNKNOWN, Cause, Pack, Sign
from mending.model import PHASES, Place

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
            yield from need_faults(pack, sign.pointless, f"{where}, pointless")


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
        if cause.hidden:
            yield from grade_faults(pack, {"hidden": cause.hidden}, where)


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
