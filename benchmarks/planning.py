"""Is the plan the best of all orders, and how long does it take to find it?"""

import time
from concurrent.futures import ProcessPoolExecutor
from random import Random
from typing import Any

from tests.all_orders import cheapest, problem
from tests.test_planning import posed

from mending.plan.exact import best_visits
from mending.plan.objective import Objective, objective_of
from mending.plan.straight import straight_for

MODELS, MOST_STEPS, SECONDS = 200, 9, 1.0


def run() -> None:
    """Print how many random problems are solved as well as by trying everything, and the time for a large one."""
    with ProcessPoolExecutor() as pool:
        same = sum(pool.map(_same, range(MODELS)))
    print(f"plans as good as the best of all orders: {same} of {MODELS} {'ok' if same == MODELS else 'not reached'}")
    taken = sorted(_seconds(number) for number in range(5))[2]
    verdict = "ok" if taken < SECONDS else "too much"
    print(f"18 steps in 6 places: {taken:.2f} s (limit {SECONDS:g}) {verdict}")


def _same(number: int) -> bool:
    random = Random(number)
    made = problem(random, 1 + number % MOST_STEPS, random.randint(2, 5))
    objective = _objective(made)
    return bool(abs(objective.cost(best_visits(objective)) - cheapest(*made)) < 1e-6)


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
    straight = straight_for(options, costs, care.prices, care.hand_over)
    return objective_of(beliefs, options, costs, care.prices, care.hand_over, straight)
