"""When failing began, and which change it began with: rates of failures in running time, by Bayes'
rule.

Failures are taken for a Poisson process whose rate changes once (Raftery and Akman, "Bayesian
analysis of a Poisson process with a change-point", Biometrika 73, 1986). Rates have gamma priors,
integrated out; as their scale is not known, several are averaged, from the usual pace of failures
up to ten thousand times it.
"""

import itertools
import math
from collections.abc import Sequence

import msgspec

from mending.model import load_scipy

_SHAPE = 0.5
_SCALES = (1.0, 0.1, 0.01, 0.001, 0.0001)
_POINTS = 40
"""Places looked at between two failures; the likelihood is smooth there."""
_SHARE = 0.985
"""Of the posterior that the interval holds: a little more than is promised, for the model is not
the world.
"""


class Onset(msgspec.Struct, frozen=True):
    """Where the rate of failures changed: an interval in running seconds; how much better a change
    fits than none.
    """

    start: float
    end: float
    evidence: float


def log_fit(count: int, seconds: float, usual: float) -> float:
    """Logarithm of how well `count` failures in so many seconds fit a constant rate that is not
    known.

    Args:
        usual: seconds for one failure over all records; the scale of the prior.
    """
    fits = []
    for scale in _SCALES:
        rate = _SHAPE * usual * scale
        fits.append(
            _SHAPE * math.log(rate)
            - math.lgamma(_SHAPE)
            + math.lgamma(_SHAPE + count)
            - (_SHAPE + count) * math.log(rate + seconds)
        )
    top = max(fits)
    return top + math.log(sum(math.exp(fit - top) for fit in fits) / len(fits))


def change_fit(failures: Sequence[float], total: float, at: float) -> float:
    """Logarithm of how much better a rise at `at` fits than one rate throughout. -inf where the
    rate does not rise.

    Args:
        failures: running seconds at each failure, ascending.
        total: running seconds in all.
    """
    after = sum(1 for failure in failures if failure >= at)
    return split_fit(len(failures) - after, at, after, total - at)


def split_fit(few: int, few_seconds: float, many: int, many_seconds: float) -> float:
    """The same for any two parts of the running time, of which the second should fail more
    often.
    """
    count, total = few + many, few_seconds + many_seconds
    if not count or not total or many * few_seconds <= few * many_seconds:
        return -math.inf
    usual = total / count
    whole = log_fit(count, total, usual)
    return log_fit(few, few_seconds, usual) + log_fit(many, many_seconds, usual) - whole


def find_onset(failures: Sequence[float], total: float) -> Onset | None:
    """The interval in which failing began; None without a failure."""
    if not failures or total <= 0:
        return None
    edges = [0.0, *failures]
    places: list[float] = []
    widths: list[float] = []
    for left, right in itertools.pairwise(edges):
        step = (right - left) / _POINTS
        if step > 0:
            places += [left + step * (number + 0.5) for number in range(_POINTS)]
            widths += [step] * _POINTS
    if not places:
        return Onset(0.0, 0.0, 0.0)
    fits = [change_fit(failures, total, place) for place in places]
    top = max(fits)
    if top == -math.inf:
        return Onset(0.0, failures[0], 0.0)
    masses = [math.exp(fit - top) * width for fit, width in zip(fits, widths, strict=True)]
    whole = sum(masses)
    start, end = _densest(places, widths, masses, whole)
    return Onset(start, end, math.exp(min(top, 500.0)) * whole / total)


def _densest(
    places: list[float], widths: list[float], masses: list[float], whole: float
) -> tuple[float, float]:
    """The range around the densest places that together hold the share."""
    order = sorted(range(len(places)), key=lambda number: -masses[number] / widths[number])
    kept, held = [], 0.0
    for number in order:
        kept.append(number)
        held += masses[number]
        if held >= _SHARE * whole:
            break
    first, last = min(kept), max(kept)
    return places[first] - widths[first] / 2, places[last] + widths[last] / 2


def exact_p(failures_in: int, failures: int, share: float) -> float:
    """Chance of at least so many of all failures in a part of the running time, if they fell
    evenly.

    The exact test of two Poisson rates, given their sum (Przyborowski and Wilenski, Biometrika 31,
    1940).
    """
    if failures_in <= 0:
        return 1.0
    special = load_scipy("special")  # scipy.stats says the same, and loads for seconds
    return float(special.bdtrc(failures_in - 1, failures, min(max(share, 0.0), 1.0)))


def holm(values: Sequence[float]) -> list[float]:
    """Chances corrected for their number (Holm, Scandinavian Journal of Statistics 6, 1979), in the
    given order.
    """
    order = sorted(range(len(values)), key=lambda number: values[number])
    out, highest = [0.0] * len(values), 0.0
    for rank, number in enumerate(order):
        highest = max(highest, min(1.0, (len(values) - rank) * values[number]))
        out[number] = highest
    return out
