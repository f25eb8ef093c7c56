"""Is the plan the best of all orders, how near to the best is it proved to be, and how long does
that take?
"""

import time
from concurrent.futures import ProcessPoolExecutor
from random import Random
from statistics import median
from typing import Any

from tests.all_orders import cheapest, large, problem
from tests.test_planning import posed

from mending.plan import make_plan
from mending.plan.objective import Objective, objective_of
from mending.plan.options import direct_fix_for
from mending.plan.proof import best_visits

MODELS, MOST_STEPS, SECONDS = 200, 9, 1.0
LARGE_MODELS, LARGE_GAP, LARGE_SECONDS = 40, 0.05, 3.0
AGAIN_SECONDS = 0.3


def run() -> None:
    """Print how many random problems are solved as well as by trying everything, and the time for a
    large one.
    """
    with ProcessPoolExecutor() as pool:
        same = sum(pool.map(_same, range(MODELS)))
    print(
        f"plans as good as the best of all orders: {same} of {MODELS}"
        f" {'ok' if same == MODELS else 'not reached'}"
    )
    taken = sorted(_seconds(number) for number in range(5))[2]
    verdict = "ok" if taken < SECONDS else "too much"
    print(f"18 steps in 6 places: {taken:.2f} s (limit {SECONDS:g}) {verdict}")
    rows = [_proved(number) for number in range(LARGE_MODELS)]
    gap, slow = median(gap for gap, _ in rows), median(seconds for _, seconds in rows)
    reached = "ok" if gap < LARGE_GAP and slow < LARGE_SECONDS else "not reached"
    worst = max(gap for gap, _ in rows)
    print(
        f"40 steps, 60 causes: proved gap {gap:.1%} at the median (limit {LARGE_GAP:.0%}),"
        f" {worst:.1%} at most, of {LARGE_MODELS}; {slow:.2f} s at the median (limit"
        f" {LARGE_SECONDS:g}) {reached}"
    )
    again = median(_again(number) for number in range(15))
    verdict = "ok" if again < AGAIN_SECONDS else "too much"
    print(f"planning again with 14 steps: {again:.2f} s (limit {AGAIN_SECONDS:g}) {verdict}")


def _same(number: int) -> bool:
    random = Random(number)
    made = problem(random, 1 + number % MOST_STEPS, random.randint(2, 5))
    objective = _objective(made)
    return bool(abs(objective.cost(best_visits(objective)) - cheapest(*made)) < 1e-6)


def _proved(number: int) -> tuple[float, float]:
    """Gap of a large problem, and the seconds for its plan and its proof."""
    beliefs, options, costs, care = posed(*large(number))
    before = time.perf_counter()
    plan = make_plan(beliefs, options, costs, care, prove=True)
    return plan.gap or 0.0, time.perf_counter() - before


def _again(number: int) -> float:
    """Seconds for a plan of 14 steps, as after a report: no proof beyond what is exact."""
    beliefs, options, costs, care = posed(*problem(Random(number), 14, 6))
    before = time.perf_counter()
    make_plan(beliefs, options, costs, care)
    return time.perf_counter() - before


def _seconds(number: int) -> float:
    random = Random(number)
    chances, rows, ways, hand_over, together = problem(random, 18, 6)
    spread = [(minutes, at % 6, *rest) for at, (minutes, _, *rest) in enumerate(rows)]
    objective = _objective((chances, spread, ways, hand_over, together))
    before = time.perf_counter()
    best_visits(objective)
    return time.perf_counter() - before


def _objective(made: Any) -> Objective:
    beliefs, options, costs, care = posed(*made)
    straight = direct_fix_for(options, costs, care.prices, care.hand_over)
    return objective_of(beliefs, options, costs, care.prices, care.hand_over, straight)
