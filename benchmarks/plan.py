"""Made-up PCs mended to the end: by the plan, by the best chance for a minute, by lists that are
the same for all.
"""

import math
import statistics
import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from random import Random

import msgspec

from benchmarks.made_up import MadeUp
from mending.case.guide import MOST_QUESTIONS
from mending.case.reasoning import cost_of_plans, facts_in
from mending.knowledge import Step, base_pack
from mending.model import Place, Risk
from mending.plan import (
    Care,
    Option,
    Situation,
    best_question,
    make_plan,
    options_from,
    visit_costs,
)
from mending.plan.objective import ResidualBelief
from mending.plan.options import needed_by
from mending.reason import Evidence, Report, ReportKind, believe, telling

PCS = 2000
WANTED_MINUTES, WANTED_FILES = 0.5, 0.2
PACK = base_pack()
CARE = Care(PACK.grades.prices["files"], PACK.grades.hand_over)
_ASIDE = {"trace-disk", *(step.id for step in PACK.steps.values() if step.repair)}
"""No disk is at hand here: what reads and mends one is left to nobody."""
_NOT_RUN_MINUTES = 1.0
_MOST_VISITS = 40
_QUESTIONS = 10
"""Asked before the first step, by whoever reasons; lists are the same for everyone."""


@dataclass
class Run:
    """One PC under one strategy. `minutes` are those of work, `asked` those of them that went into
    asking; `mended` is None until it works, then the minutes. `care` is what is dear to its owner.
    """

    pc: MadeUp
    facts: dict[str, str]
    minutes: float = 0.0
    mended: float | None = None
    risked: float | None = None
    seen: dict[str, str] = field(default_factory=dict)
    known: dict[str, str] = field(default_factory=dict)
    tried: dict[str, bool] = field(default_factory=dict)
    reports: list[Report] = field(default_factory=list)
    failed: list[tuple[Report, ...]] = field(default_factory=list)
    asked: float = 0.0
    care: Care = CARE

    def visit(self, steps: Sequence[Step], wary: bool) -> None:
        """Do steps in one place and make a test start. Args: wary: stop at a report that names
        something.
        """
        enter, test = self.pc.ways(steps[0].place, self.facts)
        self.minutes += enter
        fixed, done = False, list[Report]()
        for step in steps:
            report, mends = self._do(step)
            fixed, done = fixed or mends, [*done, report]
            if wary and (
                self._ends(step, report) or (step.finds and report.kind is ReportKind.NOT_MENDED)
            ):
                break
        self.reports += done
        changed = [
            attempt
            for attempt in done
            if attempt.kind is not ReportKind.NOT_RUN and PACK.steps[attempt.step].fixes
        ]
        if changed:
            self.minutes += test
            self.failed.append(tuple(done))
        if fixed:
            self.mended = self.minutes

    def _ends(self, step: Step, report: Report) -> bool:
        """Whether the place turned out not to be reached, or a step could not be run that others
        may need.
        """
        shut = self.pc.lacking(step, self.facts) in PACK.visits[step.place].needs
        return shut or (report.kind is ReportKind.NOT_RUN and (bool(step.gives) or not step.fixes))

    def _do(self, step: Step) -> tuple[Report, bool]:
        lacking = self.pc.lacking(step, self.facts)
        if lacking is not None:
            self.minutes += _NOT_RUN_MINUTES
            known = self.seen if lacking in PACK.signs else self.known
            known[lacking] = {**self.pc.signs, **self.facts}[lacking]
            self.tried.update(
                {} if lacking in PACK.facts or lacking in PACK.signs else {step.id: False}
            )
            return Report(step.id, ReportKind.NOT_RUN), False
        self.minutes += self.pc.minutes(step)
        if step.stakes is Risk.FILES and self.facts["backup"] != "yes" and self.risked is None:
            self.risked = self.minutes
        self.tried[step.id] = True
        mends, kind = self.pc.done(step)
        if kind is not ReportKind.NOT_MENDED:
            self.facts.update(step.gives)
            self.known.update(step.gives)
        return Report(step.id, kind), mends

    def thought(self) -> tuple[dict[str, float], list[Option], Situation]:
        """Beliefs, what can be done, and why."""
        facts = facts_in(PACK, self.known, self.seen)
        evidence = Evidence(
            facts=facts,
            seen=self.seen,
            reports=tuple(self.reports),
            failed_starts=tuple(self.failed),
        )
        causes = believe(PACK, evidence)
        situation = Situation(
            facts={**self.seen, **facts},
            tried=self.tried,
            chances={cause.id: cause.chance for cause in causes.causes},
        )
        options = [option for option in options_from(PACK, situation) if option.id not in _ASIDE]
        return dict(causes.beliefs), options, situation


def _placed(name: str, place: Place) -> Step:
    """A step of the pack, in the place where it is planned."""
    return msgspec.structs.replace(PACK.steps[name], place=place)


def begun(pc: MadeUp, care: Care = CARE) -> Run:
    """A PC about which nothing was asked yet."""
    return Run(pc, dict(pc.facts), seen=dict(pc.seen), known=dict(pc.known), care=care)


def _asked(pc: MadeUp, care: Care = CARE) -> Run:
    """With the questions first that tell most for a minute; their minutes are paid."""
    run = begun(pc, care)
    for _ in range(_QUESTIONS):
        evidence = Evidence(facts=facts_in(PACK, run.known, run.seen), seen=run.seen)
        signs = telling(PACK, evidence)
        if not signs:
            break
        run.seen[signs[0].id] = pc.told(signs[0].id)
        run.minutes += signs[0].minutes
        run.asked += signs[0].minutes
    return run


def by_plan(pc: MadeUp, care: Care = CARE) -> Run:
    """The first visit of the plan, then a new plan from what was reported and from the test start,
    and so on.
    """
    return followed(_asked(pc, care), lambda beliefs: beliefs)


def by_asking(pc: MadeUp, care: Care = CARE) -> Run:
    """As `work` leads: what pays is asked between visits, the first time a few at most."""
    return followed(begun(pc, care), lambda beliefs: beliefs, asking=True)


def _ask(run: Run, most: int) -> None:
    """Ask what pays; the answers are paid for."""
    _, _, situation = run.thought()
    cost = cost_of_plans(PACK, situation, run.care)
    for _ in range(most):
        evidence = Evidence(
            facts=facts_in(PACK, run.known, run.seen),
            seen=run.seen,
            reports=tuple(run.reports),
            failed_starts=tuple(run.failed),
        )
        asked = best_question(PACK, evidence, cost)
        if asked.sign is None:
            break
        if asked.fact:
            run.known[asked.sign] = run.facts[asked.sign]
        else:
            run.seen[asked.sign] = run.pc.told(asked.sign)
        run.minutes += asked.minutes
        run.asked += asked.minutes


def followed(
    run: Run, believed: Callable[[dict[str, float]], dict[str, float]], asking: bool = False
) -> Run:
    """Visit after visit of the plan, until it works or nothing promises anything.

    Args:
        believed: what is made of the beliefs before the plan is made.
        asking: ask what pays before each visit.
    """
    for visit in range(_MOST_VISITS):
        if asking:
            _ask(run, MOST_QUESTIONS if visit == 0 else _QUESTIONS)
        beliefs, options, situation = run.thought()
        plan = make_plan(believed(beliefs), options, visit_costs(PACK, situation), run.care)
        if not plan.visits:
            break
        place = plan.visits[0].place
        run.visit([_placed(step.id, place) for step in plan.visits[0].steps], wary=True)
        if run.mended is not None:
            break
    return run


def by_greed(pc: MadeUp) -> Run:
    """Always the step with the best chance for a minute, with all that it needs, and a test start
    after each.
    """
    run = _asked(pc)
    for _ in range(_MOST_VISITS):
        beliefs, options, situation = run.thought()
        costs, left = visit_costs(PACK, situation), ResidualBelief(beliefs)
        by_id, best = (
            {option.id: option for option in options if not option.blocked},
            (0.0, list[Option]()),
        )
        for option in by_id.values():
            needed = needed_by(option, by_id)
            if needed is None:
                continue
            group = [*needed, option]
            ways = {option.place for option in group}
            minutes = sum(option.minutes + CARE.prices.get(option.stakes, 0.0) for option in group)
            minutes += sum(costs[place].enter_minutes + costs[place].test_minutes for place in ways)
            chance = left.fixed_by(group)
            if chance * CARE.hand_over > minutes:
                best = max(best, (chance / minutes, group), key=lambda row: row[0])
        if not best[1]:
            break
        for option in best[1]:
            run.visit([_placed(option.id, option.place)], wary=True)
            if run.reports[-1].kind is ReportKind.NOT_RUN:
                break
        if run.mended is not None:
            break
    return run


def by_list(order: Sequence[str]) -> Callable[[MadeUp], Run]:
    """The same steps for everyone; those that follow each other in one place share a visit."""

    def go(pc: MadeUp) -> Run:
        run, steps = begun(pc), [PACK.steps[name] for name in order]
        able = [step for step in steps if pc.lacking(step, run.facts) is None]
        while able and run.mended is None:
            count = next(
                (at for at, step in enumerate(able) if step.place is not able[0].place), len(able)
            )
            run.visit(able[:count], wary=False)
            able = able[count:]
        return run

    return go


def _lists() -> dict[str, Callable[[MadeUp], Run]]:
    steps = [step for step in PACK.steps.values() if step.fixes and step.id not in _ASIDE]
    weights = {cause.id: PACK.grades.weights[cause.weight] for cause in PACK.causes.values()}
    base = {
        step.id: sum(weights[cause] * PACK.chance(grade) for cause, grade in step.fixes.items())
        for step in steps
    }
    stakes = list(Risk)
    shuffled = [step.id for step in steps]
    Random(1).shuffle(shuffled)
    return {
        "cheapest first": by_list([step.id for step in sorted(steps, key=lambda step: step.takes)]),
        "likeliest first": by_list(
            [step.id for step in sorted(steps, key=lambda step: -base[step.id])]
        ),
        "least at stake first": by_list(
            [
                step.id
                for step in sorted(steps, key=lambda step: (stakes.index(step.stakes), step.takes))
            ]
        ),
        "a random list": by_list(shuffled),
    }


STRATEGIES: dict[str, Callable[[MadeUp], Run]] = {
    "the plan": by_plan,
    "best chance for a minute": by_greed,
    **_lists(),
}


def _played(seed: int) -> list[tuple[float, float | None, float | None]]:
    rows = []
    for strategy in STRATEGIES.values():
        run = strategy(MadeUp(PACK, seed))
        rows.append((run.minutes, run.mended, run.risked))
    return rows


Row = tuple[float, float | None, float | None]


def _judged(rows: Sequence[Row], stop: float) -> tuple[list[float], int, int]:
    """Minutes with handing over after `stop` minutes of work, how many were mended, how many had
    files at risk.
    """
    total = [
        (
            mended
            if mended is not None and mended <= stop
            else min(minutes, stop) + PACK.grades.hand_over
        )
        for minutes, mended, _ in rows
    ]
    fixed = sum(mended is not None and mended <= stop for _, mended, _ in rows)
    return total, fixed, sum(risked is not None and risked <= stop for _, _, risked in rows)


def _best_stop(rows: Sequence[Row]) -> float:
    """When a list had better hand over, looking back at all PCs."""
    stops = [0.0, *(30.0 * count for count in range(1, 40)), math.inf]
    return min(stops, key=lambda stop: statistics.fmean(_judged(rows, stop)[0]))


def run(count: int = PCS) -> None:
    """Print minutes, share mended and files at risk for each strategy, and whether what is wanted
    is reached.
    """
    with ProcessPoolExecutor() as pool:
        played = list(pool.map(_played, range(count), chunksize=8))
    print(
        f"{count} made-up PCs; minutes with {PACK.grades.hand_over:g} for handing over; truth"
        " perturbed, sigma 0.5"
    )
    print(
        f"{'':<26}{'mean':>7}{'median':>8}{'9 of 10':>9}{'mended':>8}{'files at risk of 100':>22}"
    )
    means, risks = {}, {}
    for number, name in enumerate(STRATEGIES):
        rows = [row[number] for row in played]
        stop = _best_stop(rows) if number >= 2 else math.inf
        total, fixed, risked = _judged(rows, stop)
        means[name], risks[name] = statistics.fmean(total), 100 * risked / count
        tenth = statistics.quantiles(total, n=10)[8]
        until = f"  (hands over after {stop:g} min)" if number >= 2 else ""
        print(
            f"{name:<26}{means[name]:>7.0f}{statistics.median(total):>8.0f}{tenth:>9.0f}"
            f"{fixed / count:>8.0%}"
            f"{risks[name]:>22.1f}{until}"
        )
    lists = list(STRATEGIES)[2:]
    best = min(lists, key=lambda name: means[name])
    share = means["the plan"] / means[best]
    reached = _verdict(share <= WANTED_MINUTES)
    print(
        f"plan / best list ({best}): {share:.2f} of its minutes (wanted {WANTED_MINUTES}) {reached}"
    )
    low = risks["the plan"] <= WANTED_FILES * risks[best]
    print(
        f"files at risk: {risks['the plan']:.1f} against {risks[best]:.1f} of 100 (wanted a fifth)"
        f" {_verdict(low)}"
    )
    greedy = means["the plan"] / means["best chance for a minute"]
    print(
        f"plan / best chance for a minute: {greedy:.2f} of its minutes (wanted at most 1)"
        f" {_verdict(greedy <= 1)}"
    )


def _verdict(reached: bool) -> str:
    return "ok" if reached else "not reached"


if __name__ == "__main__":
    run(int(sys.argv[1]) if len(sys.argv) > 1 else PCS)
