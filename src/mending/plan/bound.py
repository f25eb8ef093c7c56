"""What no plan can cost less than: a linear programme over shares of steps done by points in time.

Time is counted in the minutes of the objective, stakes among them, and cut into spans. Let X(s,k)
be the mean over span k of how much of step s is done, a visit being done evenly, and u(c,k) what is
left of cause c. Every plan meets:

- the minutes of the steps done, and one way to each place they are in, are no more than the time;
- nothing is undone, and what a step needs goes before it;
- u(c,k) >= p(c) * [r(A) - sum over s outside A of r(A) * e(s,c) * X(s,k)] for every set A of steps,
where e is the
  share that a step removes and r(A) what A leaves: removal is submodular (Nemhauser, Wolsey and
  Fisher, "An analysis of approximations for maximizing submodular set functions", Mathematical
  Programming 14, 1978, proposition 2.2).

What is left falls only at the end of a visit, not evenly: each removed share pays half the minutes
of its step, way and test start more (mean busy times; Goemans, Queyranne, Schulz, Skutella and
Wang, "Single machine scheduling with release dates", SIAM Journal on Discrete Mathematics 15, 2002,
section 2). Plans are told apart by when they stop, and the span of stopping times that bounds least
is halved some times.
"""

import heapq
from itertools import pairwise

from mending.plan.linear_programme import Programme, cheapest
from mending.plan.objective import Objective

_SPANS, _FEW_SPANS = 10, 7
"""Spans of time in one programme; few where it is large."""
_HALVINGS = 2
"""How often the span of stopping times that bounds least is halved; never where the programmes are
large.
"""
_LARGE = 45
"""Steps from which the programmes are large."""


def lower_bound(problem: Objective, reached: float, minutes: float) -> float:
    """Minutes that no plan undercuts; 0 where nothing can be shown.

    Args:
        reached: cost of a plan that is known. minutes: how long it runs.
    """
    whole = float(problem.mass.sum()) + problem.rest
    last = sum(
        problem.visit_minutes([step]) for step in range(problem.steps)
    )  # no plan runs longer
    least = problem.least
    if (
        least * (last + problem.hand_over) > reached
    ):  # a plan that runs longer than this costs more than the known one
        last = reached / least - problem.hand_over
    if last <= 0:
        return reached
    tops = sorted(
        {
            0.0,
            *(top for top in (0.6 * minutes, 1.2 * minutes, 2.0 * minutes) if top < 0.9 * last),
            last,
        }
    )
    waiting = [(_span(problem, reached, low, high), low, high) for low, high in pairwise(tops)]
    heapq.heapify(waiting)
    for _ in range(_HALVINGS if problem.steps < _LARGE else 0):
        bound, low, high = waiting[0]
        if bound >= reached - 1e-6:
            break
        heapq.heappop(waiting)
        for left, right in ((low, (low + high) / 2.0), ((low + high) / 2.0, high)):
            heapq.heappush(waiting, (max(bound, _span(problem, reached, left, right)), left, right))
    return max(min(waiting[0][0], whole * problem.hand_over, reached), 0.0)


def _span(problem: Objective, reached: float, low: float, high: float) -> float:
    """The least cost of plans that stop between two times and may undercut the one that is
    known.
    """
    most = reached / (low + problem.hand_over)
    return cheapest(
        Programme(problem, _SPANS if problem.steps < _LARGE else _FEW_SPANS, low, high, most)
    )
