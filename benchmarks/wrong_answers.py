"""Made-up PCs of which a tenth of the answers to signs is wrong, mended to the end by the plan,
against somebody who knows the cause from the start and takes the best steps for it.

What stands between the two is taken apart by taking one thing away at a time.
"""

import statistics
import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor

from benchmarks.made_up import MadeUp
from benchmarks.plan import CARE, PACK, Run, begun, by_asking, by_plan, followed
from mending.knowledge import SOMETHING_ELSE
from mending.plan import Care

PCS, WRONG, WANTED = 100, 0.1, 1.45
YARD_PCS, YARD_WANTED = 100, 1.05
"""For each care, with and without a bench: PCs, and minutes against those of every sign told."""
SURE = 0.97
"""How much is believed of a cause that is known: as of one that a finding proves."""


def by_knowing(pc: MadeUp, care: Care = CARE) -> Run:
    """The best steps for the cause, which is known; what they report is not doubted."""
    known = {pc.cause: SURE, SOMETHING_ELSE: 1 - SURE}
    beliefs = known if pc.cause != SOMETHING_ELSE else {SOMETHING_ELSE: 1.0}
    return followed(begun(pc, care), lambda _: beliefs)


def _free(pc: MadeUp) -> Run:
    """By the plan, where asking costs nothing."""
    run = by_plan(pc)
    run.minutes -= run.asked
    if run.mended is not None:
        run.mended -= run.asked
    return run


def _all_told(pc: MadeUp, care: Care = CARE) -> Run:
    """By the plan, where every sign was asked before the first step, for nothing."""
    run = begun(pc, care)
    run.seen |= {name: pc.told(name) for name in pc.signs if name not in run.seen}
    return followed(run, lambda beliefs: beliefs)


WAYS: dict[str, tuple[Callable[[MadeUp], Run], float]] = {
    "knows the cause": (by_knowing, 0.0),
    "the plan, a tenth of the answers wrong": (by_plan, WRONG),
    "the same, all answers right": (by_plan, 0.0),
    "the same, asking free": (_free, WRONG),
    "the same, every sign asked for nothing": (_all_told, WRONG),
}


def _played(seed: int) -> list[tuple[float, bool, bool]]:
    rows = []
    for strategy, wrong in WAYS.values():
        run = strategy(MadeUp(PACK, seed, wrong))
        total = run.mended if run.mended is not None else run.minutes + PACK.grades.hand_over
        rows.append((total, run.mended is not None, run.risked is not None))
    return rows


def run(count: int = PCS) -> None:
    """Print mean minutes, share mended and files at risk for each way."""
    with ProcessPoolExecutor() as pool:
        played = list(pool.map(_played, range(count), chunksize=4))
    print(f"{count} made-up PCs; {WRONG:.0%} of the answers to signs wrong")
    means = {}
    for number, name in enumerate(WAYS):
        rows = [row[number] for row in played]
        means[name] = statistics.fmean(total for total, _, _ in rows)
        mended = statistics.fmean(fixed for _, fixed, _ in rows)
        risked = sum(at_risk for _, _, at_risk in rows)
        print(f"{name:<40}{means[name]:>7.0f} min{mended:>6.0%} mended, files at risk: {risked}")
    known, plan, *_ = means.values()
    verdict = "ok" if plan / known <= WANTED else "not reached"
    print(f"plan / knows the cause: {plan / known:.2f} (wanted {WANTED}) {verdict}")


def _measured(job: tuple[str, str, int]) -> list[float]:
    """Minutes as `work` leads, with every sign told, with the cause known."""
    name, bench, seed = job
    care = Care(PACK.grades.prices[name], PACK.grades.hand_over)
    found = []
    for strategy in (by_asking, _all_told, by_knowing):
        run = strategy(MadeUp(PACK, seed, WRONG, bench), care)
        found.append(run.mended or run.minutes + PACK.grades.hand_over)
    return found


def run_yardstick(count: int = YARD_PCS) -> None:
    """Print the minutes as `work` leads, its questions paid for, against those of somebody who is
    told every sign for nothing, and of somebody who knows the cause: for each care, with and
    without a bench.
    """
    rows = [(name, bench) for name in PACK.grades.prices for bench in ("yes", "no")]
    jobs = [(*row, seed) for row in rows for seed in range(count)]
    with ProcessPoolExecutor() as pool:
        found = dict(zip(jobs, pool.map(_measured, jobs, chunksize=4), strict=True))
    sums = [0.0, 0.0, 0.0]
    for row in rows:
        own = [statistics.fmean(found[*row, seed][at] for seed in range(count)) for at in range(3)]
        sums = [a + b for a, b in zip(sums, own, strict=True)]
        where = "with a bench" if row[1] == "yes" else "without one"
        print(f"{row[0]:<10}{where:<14}{own[0]:>5.0f} min{_against(own)}")
    verdict = "ok" if sums[0] / sums[1] <= YARD_WANTED else "not reached"
    print(f"all {count * len(rows)}:{_against(sums)} (wanted {YARD_WANTED}) {verdict}")


def _against(minutes: list[float]) -> str:
    plan, told, known = minutes
    return f"  told every sign {plan / told:.2f}, knows the cause {plan / known:.2f}"


if __name__ == "__main__":
    run(int(sys.argv[1]) if len(sys.argv) > 1 else PCS)
