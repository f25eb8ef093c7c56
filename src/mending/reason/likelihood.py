"""How likely one piece of evidence is under each cause. One function a kind of evidence."""

from collections.abc import Iterable, Mapping

import msgspec

from mending.knowledge import SOMETHING_ELSE, Cause, Pack, Sign
from mending.model import Finding, PhaseState, Severity
from mending.reason.evidence import Evidence, Report, ReportKind

SMOOTHING = 0.03
"""Share of every answer that follows the usual frequencies: nobody's table is so good that an answer is impossible."""
FOUND_IF_THERE = 0.98
FOUND_IF_NOT = 0.002
CLEAN_IF_THERE = 0.05
"""A trace that finds a phase sound speaks against causes that it would have seen."""
FALSE_ALARM = 0.03
"""How often a test names a fault that is not there."""
HALF_HEARTED = 0.3
"""What is left of a step's chance to fix when it did not itself report a repair."""

Likelihood = Mapping[str, float]


class Item(msgspec.Struct, frozen=True):
    """One piece of evidence, in words and as P(evidence | cause) for every cause."""

    says: str
    given: Likelihood


def items(pack: Pack, causes: Iterable[Cause], evidence: Evidence) -> list[Item]:
    """All evidence that tells something."""
    known = list(causes)
    found = [
        Item(f"{name}: {pack.signs[name].answers[answer].says}", sign_likelihood(pack, known, pack.signs[name], answer))
        for name, answer in evidence.seen.items()
        if name in pack.signs and answer in pack.signs[name].answers
    ]
    found += _trace_items(known, evidence)
    found += [_clue_item(pack, known, one) for one in evidence.clues if one.id in pack.clues]
    found += [item for report in evidence.reports if (item := _report_item(pack, known, report))]
    found += [item for done in evidence.failed_starts if (item := _start_item(pack, known, done))]
    return found


def sign_likelihood(pack: Pack, causes: Iterable[Cause], sign: Sign, answer: str) -> Likelihood:
    """P(answer | cause); answers that a cause does not mention share what is left as they usually do."""
    total = sum(one.usual for one in sign.answers.values())
    usual = {name: one.usual / total for name, one in sign.answers.items()}
    given = {SOMETHING_ELSE: usual[answer]}
    for cause in causes:
        named = {name: pack.chance(grade) for name, grade in cause.shows.get(sign.id, {}).items()}
        rest = sum(share for name, share in usual.items() if name not in named)
        left = 1 - sum(named.values())
        chance = named[answer] if answer in named else left * usual[answer] / rest
        given[cause.id] = (1 - SMOOTHING) * chance + SMOOTHING * usual[answer]
    return given


def _trace_items(causes: list[Cause], evidence: Evidence) -> list[Item]:
    trace = evidence.trace
    if trace is None:
        return []
    found = []
    for finding in trace.findings:
        proven = {cause.id for cause in causes if finding.id in cause.proved_by}
        if proven and finding.severity is not Severity.NOTE:
            given = {cause.id: FOUND_IF_THERE if cause.id in proven else FOUND_IF_NOT for cause in causes}
            found.append(Item(f"found on the disk: {finding.says}", {**given, SOMETHING_ELSE: FOUND_IF_NOT}))
    for phase in trace.phases:
        seen = {cause.id for cause in causes if cause.phase == phase.id and cause.proved_by}
        if phase.state is PhaseState.PASSED and seen:
            given = {cause.id: CLEAN_IF_THERE if cause.id in seen else 1 - CLEAN_IF_THERE for cause in causes}
            says = f"the trace finds nothing wrong in the phase {phase.id}"
            found.append(Item(says, {**given, SOMETHING_ELSE: 1 - CLEAN_IF_THERE}))
    return found


def _clue_item(pack: Pack, causes: list[Cause], clue: Finding) -> Item:
    """A clue in crash records. That one is missing tells nothing: records are rarely whole."""
    usual = pack.clues[clue.id].usual
    named = {cause.id: pack.chance(cause.records[clue.id]) for cause in causes if clue.id in cause.records}
    given = {cause.id: max(named.get(cause.id, usual), SMOOTHING * usual) for cause in causes}
    return Item(f"in the crash records: {clue.says}", {**given, SOMETHING_ELSE: usual})


def _report_item(pack: Pack, causes: list[Cause], report: Report) -> Item | None:
    step = pack.steps.get(report.step)
    if step is None or not step.finds or report.kind is ReportKind.NOT_RUN:
        return None
    named = {cause.id: pack.chance(step.finds[cause.id]) if cause.id in step.finds else FALSE_ALARM for cause in causes}
    named[SOMETHING_ELSE] = FALSE_ALARM
    clean = report.kind is ReportKind.NOTHING_WRONG
    given = {cause: 1 - chance if clean else chance for cause, chance in named.items()}
    return Item(f"{step.id} reported {report.kind}", given)


def _start_item(pack: Pack, causes: list[Cause], done: tuple[Report, ...]) -> Item | None:
    given = {cause.id: 1.0 for cause in causes} | {SOMETHING_ELSE: 1.0}
    counted = [report for report in done if report.kind is not ReportKind.NOT_RUN and report.step in pack.steps]
    for report in counted:
        share = 1.0 if report.kind is ReportKind.MENDED else HALF_HEARTED
        for cause, grade in pack.steps[report.step].fixes.items():
            if cause in given:
                given[cause] *= 1 - share * pack.chance(grade)
    names = ", ".join(report.step for report in counted)
    return Item(f"it still did not start after {names}", given) if counted else None
