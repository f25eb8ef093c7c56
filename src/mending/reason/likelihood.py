"""How likely one piece of evidence is under each cause. One function a kind of evidence.

Everything that is known (an answer, a finding, a clue in crash records, what a step reported, a
test start) becomes the same thing: a sentence, and P(it | cause) for every cause. Bayes' rule
multiplies these, which takes them as independent given the cause. Where they are not, they belong
to one group, and each of its members counts less (`shared`), or five ways of saying that the screen
is black would settle a case.
"""

import math
import re
from collections.abc import Iterable, Mapping

import msgspec

from mending.boot.chain import Trace
from mending.crash.screens import SCREEN, SeenCode
from mending.knowledge import SOMETHING_ELSE, Cause, Pack, ReportKind, Sign, Step, ToolReport
from mending.model import Finding, PhaseState, Severity
from mending.reason.reach import AFTER_LOGO, SMOOTHING, answer_chances, likelihoods

# Everything that is known about one PC, as values.


class Report(msgspec.Struct, frozen=True):
    """A step that was tried, and what it reported."""

    step: str
    kind: ReportKind


class Watched(msgspec.Struct, frozen=True):
    """A PC that started and has run since, with trouble that comes and goes.

    Attributes:
        done: the steps done since the test start before.
        hours: how long it has run without failing.
        usual_hours: after how many it used to fail, on average.
    """

    done: tuple[Report, ...]
    hours: float
    usual_hours: float


class Evidence(msgspec.Struct, frozen=True, kw_only=True):
    """What bears on the causes.

    Attributes:
        facts: answers to facts; unknown ones are left out.
        seen: answers to signs; unknown ones are left out.
        screens: other answers to what the screen shows, from before the one in `seen`.
        heard: signs whose answers were understood from what somebody said; they weigh a little
            less than chosen ones.
        trace: the newest trace of the disk as it is now.
        clues: what crash records show.
        codes: codes and messages that stand for causes: off a screen, or most often in the records.
        reports: all steps tried so far.
        failed_starts: for every test start that failed, the steps done since the one before.
        watched: the newest test start, where it is under watch.
        worked: the steps after which it started.
    """

    facts: Mapping[str, str] = {}
    seen: Mapping[str, str] = {}
    screens: tuple[str, ...] = ()
    heard: frozenset[str] = frozenset()
    trace: Trace | None = None
    clues: tuple[Finding, ...] = ()
    codes: tuple[SeenCode, ...] = ()
    reports: tuple[Report, ...] = ()
    failed_starts: tuple[tuple[Report, ...], ...] = ()
    watched: Watched | None = None
    worked: tuple[Report, ...] = ()


SOMETHING_ELSE_WEIGHT = 3.0
"""Prior weight of everything that the pack does not know, on the scale of the grades' weights."""
MISHEARD = 0.03
"""The same for an answer that was understood from what somebody said."""
ELSEWHERE = 0.15
"""How often, of those who see a code or message, none of the causes of its row is behind it."""
_EARLIER = 0.5
"""The part of its logarithm with which a screen speaks that others came after."""
_MOST_WEIGHT = 1e6
_SHOWS = 0.9
FOUND_IF_THERE = 0.98
FOUND_IF_NOT = 0.002
CLEAN_IF_THERE = 0.05
"""A trace that finds a phase sound speaks against causes that it would have seen."""
FALSE_ALARM = 0.03
"""How often a test names a fault that is not there."""
MENDED_ANYWAY = 0.15
"""How often a step says that it put something right when the cause is elsewhere."""
BY_ITSELF = 0.05
"""How often a PC starts again whatever was done."""
HALF_HEARTED = 0.3
"""What is left of a step's chance to fix when it did not itself report a repair."""

_PUT_RIGHT = {ReportKind.MENDED, ReportKind.DONE}

Likelihood = Mapping[str, float]


class Item(msgspec.Struct, frozen=True):
    """One piece of evidence, in words and as P(evidence | cause) for every cause.

    Attributes:
        group: what it shares with other pieces that in part tell the same; empty where it stands
            for itself.
        sure: read from the disk itself, so that two of them never contradict each other.
    """

    says: str
    given: Likelihood
    group: str = ""
    sure: bool = False


def items(pack: Pack, causes: Iterable[Cause], evidence: Evidence) -> list[Item]:
    """All evidence that tells something."""
    known = list(causes)
    told_by_codes = {row for code in evidence.codes if code.causes for row in code.implies.items()}
    found = [
        _sign_item(pack, known, pack.signs[name], answer, name in evidence.heard)
        for name, answer in evidence.seen.items()
        if name in pack.signs
        and answer in pack.signs[name].answers
        and (name, answer) not in told_by_codes
    ]
    found += _screen_items(pack, known, evidence)
    found += _code_items(pack, known, evidence.codes)
    found += _trace_items(pack, known, evidence)
    found += [
        _clue_item(pack, known, finding) for finding in evidence.clues if finding.id in pack.clues
    ]
    found += [item for report in evidence.reports if (item := _report_item(pack, known, report))]
    found += [item for done in evidence.failed_starts if (item := _start_item(pack, known, done))]
    if evidence.watched is not None:
        found.append(_watch_item(pack, known, evidence.watched))
    if evidence.worked:
        found.append(_worked_item(pack, known, evidence.worked))
    return shared(found)


def shared(told: list[Item]) -> list[Item]:
    """The same, where pieces of one group count for less: each of `n` speaks with the square root
    of n-th part of its logarithm. Pieces that always say the same would need 1/n, those that have
    nothing in common 1; this is between.
    """
    sizes = {
        item.group: sum(other.group == item.group for other in told) for item in told if item.group
    }
    return [
        _fainter(item, sizes[item.group] ** -0.5) if sizes.get(item.group, 1) > 1 else item
        for item in told
    ]


def _fainter(item: Item, power: float) -> Item:
    return Item(
        item.says, {cause: chance**power for cause, chance in item.given.items()}, item.group
    )


def _sign_item(pack: Pack, known: list[Cause], sign: Sign, answer: str, heard: bool) -> Item:
    given = sign_likelihood(pack, known, sign, answer)
    if heard:
        usual = MISHEARD * answer_chances(pack, None, sign)[answer]
        given = {cause: (1 - MISHEARD) * chance + usual for cause, chance in given.items()}
    return Item(f"{sign.id}: {sign.answers[answer].says}", given, sign.group)


def sign_likelihood(pack: Pack, causes: Iterable[Cause], sign: Sign, answer: str) -> Likelihood:
    """P(answer | cause): see `reach`."""
    given = likelihoods(pack, causes, sign, answer)
    given[SOMETHING_ELSE] = answer_chances(pack, None, sign)[answer]
    return given


def _screen_items(pack: Pack, causes: list[Cause], evidence: Evidence) -> list[Item]:
    """What the screen showed before: it tells of the cause as well, in part the same."""
    if AFTER_LOGO not in pack.signs:
        return []
    sign = pack.signs[AFTER_LOGO]
    earlier = [answer for answer in evidence.screens if answer in sign.answers]
    told = [_sign_item(pack, causes, sign, answer, heard=True) for answer in earlier]
    return [
        _fainter(Item(f"before that: {sign.answers[answer].says}", item.given), _EARLIER)
        for item, answer in zip(told, earlier, strict=True)
    ]


def _code_items(pack: Pack, causes: list[Cause], codes: Iterable[SeenCode]) -> list[Item]:
    """Each code and message once. Its row says which share of those who see it has each cause; by
    Bayes' rule P(code | cause) is proportional to that share over the cause's own beforehand. What
    follows from its wording (`implies`) is not told a second time.
    """
    once = {code.words: code for code in codes if code.causes}
    return [item for code in once.values() if (item := _code_item(pack, causes, code))]


def _code_item(pack: Pack, causes: list[Cause], code: SeenCode) -> Item | None:
    weights = {cause.id: pack.grades.weights[cause.weight] for cause in causes}
    weights[SOMETHING_ELSE] = SOMETHING_ELSE_WEIGHT
    named = {  # a record from elsewhere may hold any number
        cause: weight
        for cause, weight in code.causes.items()
        if cause in weights and 0.0 < weight <= _MOST_WEIGHT
    }
    if not named:
        return None
    whole, rest = sum(named.values()), sum(weights.values()) - sum(weights[name] for name in named)
    given = {
        name: (1 - ELSEWHERE) * named[name] / whole / weight if name in named else ELSEWHERE / rest
        for name, weight in weights.items()
    }
    most = max(given.values())
    likely = {name: _SHOWS * chance / most for name, chance in given.items()}
    return Item(f"it shows {code.words}", likely, "codes")


def _trace_items(pack: Pack, causes: list[Cause], evidence: Evidence) -> list[Item]:
    trace = evidence.trace
    if trace is None:
        return []
    found = []
    for finding in trace.findings:
        proven = {cause.id for cause in causes if finding.id in cause.proved_by}
        if proven and finding.severity is not Severity.NOTE:
            given = {
                cause.id: FOUND_IF_THERE if cause.id in proven else FOUND_IF_NOT for cause in causes
            }
            given[SOMETHING_ELSE] = FOUND_IF_NOT
            found.append(Item(f"found on the disk: {finding.says}", given, sure=True))
    for phase in trace.phases:
        seen = {cause.id for cause in causes if cause.phase == phase.id and cause.proved_by}
        if phase.state is PhaseState.PASSED and seen:
            given = {
                cause.id: _clean(pack, cause) if cause.id in seen else 1 - CLEAN_IF_THERE
                for cause in causes
            }
            says = f"the trace finds nothing wrong in the phase {phase.id}"
            found.append(Item(says, {**given, SOMETHING_ELSE: 1 - CLEAN_IF_THERE}))
    return found


def _clean(pack: Pack, cause: Cause) -> float:
    """P(the phase of a cause looks sound | it is the cause)."""
    return pack.chance(cause.missed_by_trace) if cause.missed_by_trace else CLEAN_IF_THERE


def _clue_item(pack: Pack, causes: list[Cause], clue: Finding) -> Item:
    """A clue in crash records. That one is missing tells nothing: records are rarely whole."""
    usual = pack.clues[clue.id].usual
    named = {
        cause.id: pack.chance(cause.records[clue.id])
        for cause in causes
        if clue.id in cause.records
    }
    given = {cause.id: max(named.get(cause.id, usual), SMOOTHING * usual) for cause in causes}
    return Item(
        clue.says if clue.says.startswith(SCREEN) else f"in the crash records: {clue.says}",
        {**given, SOMETHING_ELSE: usual},
        pack.clues[clue.id].group,
    )


def _report_item(pack: Pack, causes: list[Cause], report: Report) -> Item | None:
    step = pack.steps.get(report.step)
    if step is None or not step.finds or report.kind is ReportKind.NOT_RUN:
        return None
    given = {cause.id: _report_chance(pack, step, cause.id, report.kind) for cause in causes}
    given[SOMETHING_ELSE] = _report_chance(pack, step, SOMETHING_ELSE, report.kind)
    words = step.reports.get(report.kind, "")
    return Item(f"{step.id} reported {report.kind}" + (f": {words}" if words else ""), given)


def _report_chance(pack: Pack, step: Step, cause: str, kind: ReportKind) -> float:
    """P(report | cause). What can mend a cause says so when it does; some say so though there was
    nothing to mend.
    """
    finds = pack.chance(step.finds[cause]) if cause in step.finds else FALSE_ALARM
    if not step.fixes:
        return 1 - finds if kind is ReportKind.NOTHING_WRONG else finds
    fixes = pack.chance(step.fixes[cause]) if cause in step.fixes else 0.0
    mended = max(fixes, MENDED_ANYWAY)
    not_mended = min(max(finds * (1 - fixes), FALSE_ALARM), 1 - mended)
    chances = {
        ReportKind.MENDED: mended,
        ReportKind.DONE: mended,
        ReportKind.NOT_MENDED: not_mended,
        ReportKind.FOUND: not_mended,
    }
    return max(chances.get(kind, 1 - mended - not_mended), SMOOTHING)


def _start_item(pack: Pack, causes: list[Cause], done: tuple[Report, ...]) -> Item | None:
    fixed = put_right(pack, done)
    given = {cause.id: 1.0 - fixed.get(cause.id, 0.0) for cause in causes} | {SOMETHING_ELSE: 1.0}
    names = ", ".join(report.step for report in _counted(pack, done))
    return Item(f"it still did not start after {names}", given) if names else None


def _worked_item(pack: Pack, causes: list[Cause], done: tuple[Report, ...]) -> Item:
    """That it starts tells for what the steps before it can put right."""
    fixed = put_right(pack, done)
    given = {cause.id: max(fixed.get(cause.id, 0.0), BY_ITSELF) for cause in causes}
    names = ", ".join(report.step for report in _counted(pack, done))
    return Item(f"it started after {names}", {**given, SOMETHING_ELSE: BY_ITSELF})


def put_right(pack: Pack, done: Iterable[Report]) -> dict[str, float]:
    """How likely these steps put each cause right that they can put right, were it there."""
    left: dict[str, float] = {}
    for report in _counted(pack, done):
        share = 1.0 if report.kind in _PUT_RIGHT else HALF_HEARTED
        for cause, grade in pack.steps[report.step].fixes.items():
            left[cause] = left.get(cause, 1.0) * (1 - share * pack.chance(grade))
    return {cause: 1.0 - chance for cause, chance in left.items()}


def _counted(pack: Pack, done: Iterable[Report]) -> list[Report]:
    return [
        report
        for report in done
        if report.kind is not ReportKind.NOT_RUN and report.step in pack.steps
    ]


def _watch_item(pack: Pack, causes: list[Cause], watched: Watched) -> Item:
    """That it runs on tells that what was done helped, the more the longer it used to fail before
    that. Failures are taken to come at random, a Poisson process: it runs `t` hours without one
    with the chance exp(-t / mean).
    """
    by_luck = math.exp(-watched.hours / watched.usual_hours)
    fixed = put_right(pack, watched.done)
    given = {
        cause.id: fixed.get(cause.id, 0.0) + (1.0 - fixed.get(cause.id, 0.0)) * by_luck
        for cause in causes
    }
    says = f"it has run {watched.hours:g} hours; it used to fail after {watched.usual_hours:.3g}"
    return Item(
        says,
        {name: max(chance, SMOOTHING) for name, chance in given.items()}
        | {SOMETHING_ELSE: max(by_luck, SMOOTHING)},
    )


def mended_chance(pack: Pack, beliefs: Mapping[str, float], watched: Watched) -> float:
    """How likely a PC under watch is mended, given how likely each cause is now that it ran so
    long: Bayes' rule for each cause.
    """
    by_luck = math.exp(-watched.hours / watched.usual_hours)
    fixed = put_right(pack, watched.done)
    return sum(
        chance
        * fixed.get(cause, 0.0)
        / (fixed.get(cause, 0.0) + (1 - fixed.get(cause, 0.0)) * by_luck)
        for cause, chance in beliefs.items()
        if fixed.get(cause, 0.0)
    )


# What a tool says, in the words of whoever passes it on, as the report of the step under way.


_ALIKE = {
    ReportKind.FOUND: ReportKind.NOT_MENDED,
    ReportKind.NOT_MENDED: ReportKind.FOUND,
    ReportKind.MENDED: ReportKind.DONE,
    ReportKind.DONE: ReportKind.MENDED,
    ReportKind.NOTHING_WRONG: ReportKind.DONE,
}
"""What a report stands for where a step does not have it."""


def tool_report(pack: Pack, text: str) -> ToolReport | None:
    """The first row whose pattern is in a text; None where no tool speaks so."""
    rows = pack.tool_reports.values()
    return next((row for row in rows if re.search(row.pattern, text, re.IGNORECASE)), None)


def report_of(step: Step, row: ToolReport) -> ReportKind | None:
    """What a step reported so, among the reports that fit it; None: it is no report of it."""
    if row.report is None or row.report in step.fitting:
        return row.report
    alike = _ALIKE.get(row.report)
    return alike if alike in step.fitting else None
