"""The pack is whole, its faults are told by file, table and key, and every plan keeps to needs, order and stakes."""

import shutil
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

import mending.knowledge
from mending.knowledge import base_pack, load_pack
from mending.model import InputError, Phase, Place
from mending.plan import Situation, make_plan, options_from, visit_costs
from mending.plan.order import PROMISING, chance_to_fix
from mending.reason import Evidence, believe

BASE = Path(mending.knowledge.__file__).parent / "packs" / "base"
PACK = base_pack()
SEEN = st.fixed_dictionaries(
    {}, optional={sign.id: st.sampled_from(sorted(sign.answers)) for sign in PACK.signs.values()}
)
FACTS = st.fixed_dictionaries(
    {}, optional={fact.id: st.sampled_from(sorted(fact.answers)) for fact in PACK.facts.values()}
)


class Content(unittest.TestCase):
    def test_it_covers_every_phase_and_place(self):
        self.assertGreaterEqual(len(PACK.signs), 14)
        self.assertGreaterEqual(len(PACK.causes), 16)
        self.assertGreaterEqual(len(PACK.steps), 24)
        self.assertEqual({cause.phase for cause in PACK.causes.values()}, set(Phase))
        self.assertEqual({step.place for step in PACK.steps.values()}, set(Place))

    def test_every_fault_is_told_with_file_table_and_key(self):
        faults = {
            ("causes.toml", 'phase = "power"', 'phase = "lunch"'): "causes.toml, cause power-supply-dead",
            ("causes.toml", "fans-lights = { none", "fan-light = { none"): "shows.fan-light: there is no such sign",
            ("causes.toml", 'none = "usual", brief', 'loud = "usual", brief'): "'loud' is no answer",
            ("steps.toml", 'needs = { bench = "yes" }', 'needs = { bench = "perhaps" }'): "needs.bench",
            (
                "steps.toml",
                'after = ["image-drive"]',
                'after = ["replace-drive"]',
            ): "replace-drive, after: the order goes in a circle",
            ("steps.toml", 'power-supply-dead = "seldom"', 'power-supply-dead = "mostly"'): "'mostly' is no grade",
            ("steps.toml", "minutes = 3\n", "minutes = 0\n"): "minutes must be above 0",
            ("steps.toml", "does =", "dose ="): "steps.toml, step drain-power",
            ("signs.toml", 'id = "beeps"', 'id = "logo"'): "the id is used twice",
            ("grades.toml", "[weights]", "[weights"): "grades.toml is not TOML",
        }
        for (file, old, new), words in faults.items():
            with tempfile.TemporaryDirectory() as folder, self.subTest(words):
                shutil.copytree(BASE, folder, dirs_exist_ok=True)
                path = Path(folder) / file
                self.assertIn(old, path.read_text())
                path.write_text(path.read_text().replace(old, new, 1))
                with self.assertRaises(InputError) as caught:
                    load_pack(Path(folder))
                self.assertIn(words, caught.exception.says)


class Thinking(unittest.TestCase):
    @given(SEEN, FACTS)
    @settings(max_examples=60, deadline=None)
    def test_beliefs_add_up_and_weights_explain_them(self, seen, facts):
        result = believe(PACK, Evidence(facts=facts, seen=seen))
        self.assertAlmostEqual(sum(result.beliefs.values()), 1.0)
        for cause in result.causes:
            told = [one.evidence for one in (*cause.for_, *cause.against)]
            self.assertLessEqual(len(told), len(seen))
            self.assertTrue(all(one.weight > 0 for one in cause.for_) and all(one.weight < 0 for one in cause.against))

    def test_bayes_agrees_with_a_calculation_by_hand(self):
        """P(cause | beeps=pattern) with the pack's own grades, written out."""
        result = believe(PACK, Evidence(seen={"beeps": "pattern"}))
        usual, chances, weights = 0.1, PACK.grades.chances, PACK.grades.weights
        joint = {}
        for cause in PACK.causes.values():
            named = cause.shows.get("beeps", {}).get("pattern")
            chance = 0.97 * chances[named] + 0.03 * usual if named else usual
            joint[cause.id] = weights[cause.weight] * chance
        total = sum(joint.values()) + 3.0 * usual
        for cause in result.causes:
            self.assertAlmostEqual(cause.chance, joint[cause.id] / total)

    @given(SEEN, FACTS, st.sets(st.sampled_from(sorted(PACK.steps)), max_size=8))
    @settings(max_examples=80, deadline=None)
    def test_every_plan_keeps_to_needs_order_and_stakes(self, seen, facts, done):
        situation = Situation(facts=facts, tried=dict.fromkeys(done, True))
        options = options_from(PACK, situation)
        beliefs = believe(PACK, Evidence(facts=facts, seen=seen)).beliefs
        plan = make_plan(beliefs, options, visit_costs(PACK, situation))
        by_id = {option.id: option for option in options}
        before = set(done)
        for step in [step for visit in plan.visits for step in visit.steps]:
            option = by_id[step.id]
            self.assertNotIn(step.id, done)
            self.assertTrue(set(option.after) <= before, step.id)
            self.assertTrue(all(facts.get(name, want) == want for name, want in PACK.steps[step.id].needs.items()))
            if option.stakes == "files":
                self.assertTrue(facts.get("backup") == "yes" or "copy-personal-files" in before)
            before.add(step.id)
        chances = list(plan.chance_by.values())
        self.assertEqual(chances, sorted(chances))

    def test_nothing_that_loses_files_comes_before_what_is_promising_and_does_not(self):
        situation = Situation(facts={"backup": "yes", "rescue-stick": "yes", "bench": "yes"})
        options = options_from(PACK, situation)
        beliefs = dict(believe(PACK, Evidence(seen={"drive-light": "steady", "drive-noise": "clicks"})).beliefs)
        plan = make_plan(beliefs, options, visit_costs(PACK, situation))
        steps = [step for visit in plan.visits for step in visit.steps]
        first = next(number for number, step in enumerate(steps) if step.stakes == "files")
        done = {step.id for step in steps[:first]}
        for step in steps[:first]:
            option = next(one for one in options if one.id == step.id)
            beliefs = {cause: chance * (1 - option.fixes.get(cause, 0)) for cause, chance in beliefs.items()}
        left = [
            one.id
            for one in options
            if one.id not in done and one.stakes != "files" and not one.blocked and not one.after
        ]
        reachable = [one for one in options if one.id in left and not visit_costs(PACK, situation)[one.place].blocked]
        self.assertEqual([one.id for one in reachable if chance_to_fix(beliefs, one) >= PROMISING], [])
        hasty = make_plan(
            believe(PACK, Evidence(seen={"drive-light": "steady"})).beliefs, options, visit_costs(PACK, situation), True
        )
        self.assertTrue(any(step.stakes == "files" for visit in hasty.visits for step in visit.steps))


if __name__ == "__main__":
    unittest.main()
