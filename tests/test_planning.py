"""The best order of steps against every order there is; what a plan must obey; parts of larger
problems.
"""

import unittest
from random import Random

from mending.model import Place, Risk
from mending.plan import Care, VisitCost, make_plan, why_there
from mending.plan.objective import objective_of
from mending.plan.options import Option, direct_fix_for
from mending.plan.order import improved
from mending.plan.proof import best_visits, lower_bound
from tests.all_orders import cheapest, large, problem

PLACES = list(Place)


def options_of(rows):
    return [
        Option(
            id=str(number),
            does="",
            minutes=minutes,
            place=PLACES[place],
            stakes=Risk.NOTHING,
            fixes={str(cause): chance for cause, chance in fixes.items()},
            finds={str(cause): chance for cause, chance in finds.items()},
            after=tuple(map(str, sorted(first))),
            unknown=(),
            blocked="",
            repair=None,
        )
        for number, (minutes, place, fixes, finds, first) in enumerate(rows)
    ]


def posed(chances, rows, ways, hand_over, together=()):
    """Beliefs, options, ways and care, as the program has them."""
    beliefs = {str(cause): chance for cause, chance in enumerate(chances)}
    beliefs |= {"+".join(map(str, parts)): chance for parts, chance in together}
    beliefs["rest"] = 1 - sum(beliefs.values())
    costs = {PLACES[place]: VisitCost(enter, test, "") for place, (enter, test) in enumerate(ways)}
    costs |= {place: VisitCost(1, 1, "") for place in PLACES if place not in costs}
    return beliefs, options_of(rows), costs, Care({}, hand_over)


def objective(beliefs, options, costs, care):
    straight = direct_fix_for(options, costs, care.prices, care.hand_over)
    return objective_of(beliefs, options, costs, care.prices, care.hand_over, straight)


class Exactness(unittest.TestCase):
    def test_the_plan_costs_what_the_best_of_all_orders_costs(self):
        random = Random(20261123)
        for number in range(60):
            made = problem(random, random.randint(1, 6), random.randint(1, 4))
            beliefs, options, costs, care = posed(*made)
            problem_here = objective(beliefs, options, costs, care)
            visits = best_visits(problem_here)
            self.assertAlmostEqual(problem_here.cost(visits), cheapest(*made), 8, number)
            done = set()
            for visit in visits:
                self.assertEqual(len({options[step].place for step in visit}), 1)
                done |= {options[step].id for step in visit}
                self.assertTrue(all(set(options[step].after) <= done for step in visit))

    def test_too_many_steps_are_refused_and_ordered_by_single_moves_instead(self):
        made = problem(Random(5), 30, 6)
        beliefs, options, costs, care = posed(*made)
        with self.assertRaises(ValueError):
            best_visits(objective(beliefs, options, costs, care))
        plan = make_plan(beliefs, options, costs, care)
        self.assertEqual((plan.exact, plan.gap), (False, None))
        done = set()
        for visit in plan.visits:
            for step in visit.steps:
                self.assertTrue(set(options[int(step.id)].after) <= done)
                done.add(step.id)
        self.assertEqual(len(done), sum(len(visit.steps) for visit in plan.visits))
        small = make_plan(*posed(*problem(Random(6), 8, 3)))
        self.assertEqual((small.exact, small.gap), (True, 0.0))

    def test_nothing_is_done_that_costs_more_than_it_saves(self):
        row = (400.0, 0, {0: 0.5}, {}, set())
        self.assertEqual(make_plan(*posed([0.2, 0.2], [row], [(7.0, 3.0)], 120.0)).visits, ())
        cheap = (1.0, 0, {0: 0.5}, {}, set())
        self.assertEqual(len(make_plan(*posed([0.2, 0.2], [cheap], [(7.0, 3.0)], 120.0)).visits), 1)

    def test_a_test_that_names_the_cause_leads_to_what_mends_it(self):
        rows = [
            (5.0, 0, {}, {0: 0.98}, set()),
            (90.0, 1, {0: 0.98}, {}, set()),
            (90.0, 2, {1: 0.98}, {}, set()),
        ]
        plan = make_plan(*posed([0.45, 0.45], rows, [(2.0, 0.0), (3.0, 2.0), (3.0, 2.0)], 480.0))
        first = plan.visits[0].steps[0]
        self.assertEqual((first.id, dict(first.leads_to)), ("0", {"0": "1"}))
        self.assertEqual(plan.visits[1].steps[0].id, "2")
        self.assertAlmostEqual(plan.chance_by["120"], 0.45 * 0.98 * 0.98 + 0.45 * 0.98)


class Why(unittest.TestCase):
    def test_no_step_of_the_best_plan_is_better_elsewhere(self):
        random = Random(7)
        for _ in range(25):
            made = problem(random, random.randint(2, 7), 3)
            beliefs, options, costs, care = posed(*made)
            plan = make_plan(beliefs, options, costs, care)
            best = objective(beliefs, options, costs, care)
            for step in [step.id for visit in plan.visits for step in visit.steps]:
                found = why_there(plan, step, beliefs, options, costs, care)
                self.assertLessEqual(
                    found.planned, min(found.first, found.last, found.without) + 0.011
                )
                self.assertGreaterEqual(found.planned, best.cost(best_visits(best)) - 0.011)


class Bound(unittest.TestCase):
    def test_no_plan_undercuts_the_bound_and_no_single_move_betters_the_plan(self):
        random = Random(11)
        for number in range(40):
            made = problem(random, random.randint(2, 7), random.randint(1, 4))
            posed_here = objective(*posed(*made))
            moved = improved(posed_here, [])
            reached = posed_here.cost(moved)
            best = cheapest(*made)
            self.assertGreaterEqual(reached, best - 1e-6)
            bound = lower_bound(
                posed_here, reached, sum(posed_here.visit_minutes(visit) for visit in moved)
            )
            self.assertLessEqual(bound, best + 1e-6, number)
            self.assertGreater(bound, 0.0)

    def test_where_nothing_is_left_in_the_end_the_bound_still_holds(self):
        rows = [(5.0, 0, {0: 1.0}, {}, set()), (9.0, 1, {1: 1.0}, {}, set())]
        sure = objective(*posed([0.5, 0.5], rows, [(2.0, 1.0), (3.0, 1.0)], 480.0))
        best = sure.cost(best_visits(sure))
        bound = lower_bound(sure, best, 21.0)
        self.assertTrue(0.5 * best < bound <= best + 1e-6)

    def test_a_large_plan_says_how_far_from_the_best_it_is_at_most(self):
        beliefs, options, costs, care = posed(*large(3))
        plan = make_plan(beliefs, options, costs, care, prove=True)
        self.assertFalse(plan.exact)
        self.assertTrue(0.0 <= plan.gap < 0.25)
        self.assertGreater(len(plan.visits), 1)
        at = {option.id: option for option in options}
        done = set()
        for step in [step for visit in plan.visits for step in visit.steps]:
            self.assertLessEqual(set(at[step.id].after), done | {step.id})
            done.add(step.id)


if __name__ == "__main__":
    unittest.main()
