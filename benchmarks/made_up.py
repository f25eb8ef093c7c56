"""PCs with a hidden fault, made by a truth that the planner does not know.

Every number of the pack is multiplied by a log-normal factor of its own, sigma 0.5: weights of
causes, chances of answers (which are then made to add up again), odds of chances to mend and to
name, minutes. One draw for each PC, so that no strategy can learn it; the luck of each step is
drawn once, so that all strategies meet the same PC.
"""

import math
from random import Random

from mending.knowledge import SOMETHING_ELSE, Cause, Pack, Sign, Step, answers_of
from mending.model import Place
from mending.reason import ReportKind, answer_chances

SIGMA = 0.5
SOMETHING_ELSE_WEIGHT = 3.0
_TAKEN_IN = ("fans-lights", "logo", "after-logo", "recent-change")
_MORE_SIGNS = 3
_KNOWN = 0.5
"""Chance that a fact which is not asked at the start is known all the same."""
_FALSE_ALARM = 0.03


class MadeUp:
    """One PC: its hidden cause, its facts, what is known of it at first, and what each step would
    do.

    Args:
        wrong: how often an answer to a sign is another one than the right one.
        bench: whether the PC can be opened; empty as it comes.
    """

    def __init__(self, pack: Pack, seed: int, wrong: float = 0.0, bench: str = "") -> None:
        self.pack, self.random = pack, Random(f"made-up-{seed}")
        self.wrong, self.mistakes = wrong, Random(f"wrong-{seed}")
        self.facts = {name: self._drawn(fact.shares) for name, fact in pack.facts.items()}
        self.facts["bench"] = bench or self.facts["bench"]
        self.cause = self._cause()
        self.signs = {name: self._answer(sign) for name, sign in pack.signs.items()}
        for row in [pack.signs[name].answers[answer] for name, answer in self.signs.items()]:
            self.facts |= {name: told for name, told in row.implies.items() if name in pack.facts}
            self.signs |= {name: told for name, told in row.implies.items() if name in pack.signs}
        told = [
            *_TAKEN_IN,
            *self.random.sample(sorted(set(pack.signs) - set(_TAKEN_IN)), _MORE_SIGNS),
        ]
        self.seen = {name: self.told(name) for name in told}
        self.known = {
            name: answer
            for name, answer in self.facts.items()
            if pack.facts[name].asked_at_open or self.random.random() < _KNOWN
        }
        self.factor = {step: self._factor() for step in sorted(pack.steps)}
        self.luck = {
            step: (self.random.random(), self.random.random()) for step in sorted(pack.steps)
        }
        self.odds = {step: (self._factor(), self._factor()) for step in sorted(pack.steps)}

    def told(self, sign: str) -> str:
        """What somebody answers."""
        right = self.signs[sign]
        others = {
            name: share for name, share in self.pack.signs[sign].shares.items() if name != right
        }
        if self.mistakes.random() >= self.wrong:
            return right
        return self.mistakes.choices(list(others), list(others.values()))[0]

    def minutes(self, step: Step) -> float:
        """What the step really takes here."""
        return step.takes * self.factor[step.id]

    def ways(self, place: Place, facts: dict[str, str]) -> tuple[float, float]:
        """What the way to a place takes, and the test start."""
        visit = self.pack.visits[place]
        ways = [
            way
            for way in visit.ways
            if all(facts.get(k) in answers_of(v) for k, v in way.when.items())
        ]
        only = [way.minutes for way in ways if way.only][:1]
        minutes = min(only or [visit.minutes, *(way.minutes for way in ways)])
        return minutes, visit.test_start_minutes

    def lacking(self, step: Step, facts: dict[str, str]) -> str | None:
        """The first fact or sign that keeps the step from being run here, if any."""
        truth = {**self.signs, **facts}
        needs = {**self.pack.visits[step.place].needs, **step.needs}
        return next(
            (name for name, need in needs.items() if truth[name] not in answers_of(need)), None
        )

    def done(self, step: Step) -> tuple[bool, ReportKind]:
        """Whether the step mends this PC, and what it reports."""
        fixes = self.luck[step.id][0] < self._chance(
            step.fixes.get(self.cause), self.odds[step.id][0]
        )
        if not step.finds:
            return fixes, ReportKind.MENDED
        named = self.luck[step.id][1] < (
            self._chance(step.finds.get(self.cause), self.odds[step.id][1]) or _FALSE_ALARM
        )
        if fixes:
            return True, ReportKind.MENDED
        return False, ReportKind.NOT_MENDED if named else ReportKind.NOTHING_WRONG

    def _chance(self, grade: str | None, factor: float) -> float:
        if grade is None:
            return 0.0
        chance = self.pack.chance(grade)
        odds = chance / (1 - chance) * factor
        return odds / (1 + odds)

    def _factor(self) -> float:
        return math.exp(self.random.gauss(0.0, SIGMA))

    def _drawn(self, weights: dict[str, float]) -> str:
        return self.random.choices(list(weights), list(weights.values()))[0]

    def _cause(self) -> str:
        family, weights = (
            self.facts["family"],
            {SOMETHING_ELSE: SOMETHING_ELSE_WEIGHT * self._factor()},
        )
        for cause in self.pack.causes.values():
            if not cause.families or family in cause.families:
                weights[cause.id] = self.pack.grades.weights[cause.weight] * self._factor()
                for fact, odds in cause.likelier.items():
                    weights[cause.id] *= self.pack.grades.odds.get(
                        odds.get(self.facts[fact], ""), 1.0
                    )
        return self._drawn(weights)

    def _answer(self, sign: Sign) -> str:
        cause: Cause | None = self.pack.causes.get(self.cause)
        chances = answer_chances(self.pack, cause, sign)
        return self._drawn(
            {name: max(chance, 1e-3) * self._factor() for name, chance in sorted(chances.items())}
        )
