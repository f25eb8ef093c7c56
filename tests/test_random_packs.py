"""Plans over packs and facts made at random: every plan obeys every need, order and copy, whatever
the pack says.
"""

import unittest
from random import Random

import msgspec

from mending.knowledge import (
    Answer,
    Cause,
    Pack,
    ReportKind,
    Sign,
    Step,
    Visit,
    answers_of,
    base_pack,
)
from mending.knowledge.check import check_pack
from mending.model import PHASES, Place, Risk
from mending.plan import Care, Situation, make_plan, options_from, visit_costs
from mending.reason import Evidence, believe

YES_NO = {"yes": Answer(says="yes"), "no": Answer(says="no")}
GRADES = ("certain", "usual", "often", "sometimes", "seldom")
FACTS = ("backup", "bench", "stick", "key", "mains")


def made_up(random):
    """A pack of some facts, signs, causes and steps; or None where its own check finds a fault."""
    facts = {name: Sign(id=name, asks=name, answers=YES_NO) for name in FACTS}
    signs = {f"sign-{n}": Sign(id=f"sign-{n}", asks="?", answers=YES_NO) for n in range(3)}
    causes = {}
    for number in range(random.randint(8, 14)):
        shows = {
            name: {"yes": random.choice(GRADES)}
            for name in signs
            if number < 2 or random.random() < 0.5
        }
        weight = random.choice(("common", "usual", "rare"))
        phase = PHASES[number % len(PHASES)]
        causes[f"c{number}"] = Cause(
            id=f"c{number}", phase=phase, says="it", weight=weight, shows=shows
        )
    steps = {}
    for number in range(random.randint(6, 26)):
        name = f"s{number}"
        some = random.sample(sorted(causes), random.randint(0, 4))
        finds = {cause: random.choice(GRADES) for cause in some if random.random() < 0.3}
        steps[name] = Step(
            id=name,
            does=name,
            how="so",
            worked_if="see",
            minutes=random.uniform(1, 60),
            waits=random.choice((0.0, 20.0)),
            place=random.choice(list(Place)),
            stakes=random.choice(list(Risk)),
            needs={fact: "yes" for fact in FACTS if random.random() < 0.15},
            gives={fact: "yes" for fact in FACTS if random.random() < 0.06},
            after=tuple(step for step in steps if random.random() < 0.05),
            after_if_possible=tuple(step for step in steps if random.random() < 0.05),
            fixes={cause: random.choice(GRADES) for cause in some if cause not in finds},
            finds=finds,
            reports={ReportKind.NOTHING_WRONG: "nothing"},
        )
    for cause in causes:  # each is fixed by something
        row = steps[random.choice(sorted(steps))]
        steps[row.id] = msgspec.structs.replace(row, fixes={**row.fixes, cause: "usual"})
    visits = {
        place: Visit(
            place=place,
            how="go",
            minutes=random.uniform(0, 12),
            test_start_minutes=3,
            needs={fact: "yes" for fact in FACTS[1:] if random.random() < 0.1},
        )
        for place in Place
    }
    pack = Pack(
        grades=base_pack().grades,
        facts=facts,
        signs=signs,
        clues={},
        causes=causes,
        steps=steps,
        visits=visits,
    )
    return None if check_pack(pack) else pack


class Obedience(unittest.TestCase):
    def test_every_plan_obeys_needs_order_and_copies(self):
        random, planned, packs = Random(20261123), 0, 0
        while packs < 300:
            pack = made_up(random)
            if pack is None:
                continue
            packs += 1
            facts = {fact: random.choice(("yes", "no")) for fact in FACTS if random.random() < 0.6}
            tried = {step: random.random() < 0.7 for step in pack.steps if random.random() < 0.1}
            situation = Situation(facts=facts, tried=tried)
            seen = {name: "yes" for name in pack.signs if random.random() < 0.5}
            options = options_from(pack, situation)
            beliefs = believe(pack, Evidence(facts=facts, seen=seen)).beliefs
            care = Care(
                pack.grades.prices[random.choice(("files", "speed"))], pack.grades.hand_over
            )
            plan = make_plan(beliefs, options, visit_costs(pack, situation), care)
            planned += self.obeys(pack, plan, facts, tried)
        self.assertGreater(planned, 500)

    def obeys(self, pack, plan, facts, tried):
        """Walk the plan as a technician would; returns how many steps it has."""
        known, done, steps = dict(facts), {name for name, ran in tried.items() if ran}, 0
        for visit in plan.visits:
            for row in visit.steps:
                step, steps = pack.steps[row.id], steps + 1
                self.assertEqual(step.place, visit.place)
                self.assertNotIn(step.id, {*done, *tried})
                self.assertLessEqual(set(step.after), done)
                for name, need in {**pack.visits[step.place].needs, **step.needs}.items():
                    self.assertIn(known.get(name, "yes"), answers_of(need), (step.id, name))
                if step.stakes is Risk.FILES:
                    self.assertEqual(known.get("backup"), "yes", step.id)
                known |= step.gives
                done.add(step.id)
        return steps


if __name__ == "__main__":
    unittest.main()
