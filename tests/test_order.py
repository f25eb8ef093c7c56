"""What never depends on luck: in random cases no plan erases before it keeps, for any care."""

import unittest
from random import Random

from mending.case import plan_of
from mending.case.state import CaseState
from mending.case.thinking import facts_of, situation_of
from mending.knowledge import base_pack
from mending.model import Place, Risk
from mending.plan import options_from

PACK = base_pack()
CASES = 34
"""Random cases for each care: a hundred and two."""
DRIVERS = {"put-back-driver", "turn-driver-off", "update-driver", "remove-program"}
ASKS_FOR_KEY = {"clear-setup-memory", "restore-setup", "allow-loader"}


def random_case(seed):
    """Answers as they come, not as they fit."""
    random = Random(f"order-{seed}")
    facts = {
        name: random.choice(list(fact.answers))
        for name, fact in PACK.facts.items()
        if random.random() < 0.4
    }
    seen = {
        name: random.choice(list(sign.answers))
        for name, sign in PACK.signs.items()
        if random.random() < 0.15
    }
    return CaseState(facts=facts, seen=seen)


class Order(unittest.TestCase):
    def test_no_plan_erases_before_it_keeps(self):
        risky = 0
        for care in ("files", "programs", "speed"):
            for seed in range(CASES):
                state = random_case(f"{care}-{seed}")
                with self.subTest(care=care, seed=seed):
                    risky += self.check(state, plan_of(state, PACK, care))
        self.assertGreater(risky, 10)

    def check(self, state, plan):
        """Walk the plan; returns how many steps in it must have something before them."""
        known, done, bound = dict(facts_of(state, PACK)), set(), 0
        able = {
            option.id
            for option in options_from(PACK, situation_of(state, PACK))
            if not option.blocked
        }
        for row in [row for visit in plan.visits for row in visit.steps]:
            step = PACK.steps[row.id]
            if step.stakes is Risk.FILES:
                bound += 1
                self.assertEqual(known.get("backup"), "yes", step.id)
            for others, first in (
                (DRIVERS, "make-restore-point"),
                (ASKS_FOR_KEY, "find-recovery-key"),
                ({"replace-drive"}, "image-drive"),
            ):
                if step.id in others and first in able:
                    bound += 1
                    self.assertIn(first, done, step.id)
            if step.id == "update-firmware":
                bound += 1
                for fact in ("mains-power", "protection-suspended"):
                    self.assertNotEqual(known.get(fact), "no", fact)
            known |= step.gives
            done.add(step.id)
        return bound


class Ways(unittest.TestCase):
    def plan(self, **seen):
        return plan_of(CaseState(facts={"family": "nt"}, seen=seen), PACK)

    def test_what_can_be_done_at_the_desktop_is_done_there_where_it_opens(self):
        options = {
            option.id: option.place
            for option in options_from(
                PACK, situation_of(CaseState(seen={"after-logo": "desktop"}), PACK)
            )
        }
        self.assertEqual(options["put-back-driver"], Place.DESKTOP)
        options = {
            option.id: option.place
            for option in options_from(
                PACK,
                situation_of(
                    CaseState(seen={"after-logo": "black-later", "safe-mode-start": "yes"}), PACK
                ),
            )
        }
        self.assertEqual(options["put-back-driver"], Place.SAFE_MODE)

    def test_recovery_comes_from_a_stick_where_the_start_never_gets_to_the_boot_manager(self):
        steps = [
            step.id
            for visit in self.plan(**{"message-about": "no-device"}).visits
            for step in visit.steps
        ]
        at = steps.index("open-recovery-from-stick")
        in_recovery = [name for name in steps if PACK.steps[name].place is Place.RECOVERY]
        self.assertTrue(in_recovery)
        self.assertTrue(all(steps.index(name) > at for name in in_recovery))


if __name__ == "__main__":
    unittest.main()
