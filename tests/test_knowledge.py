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
from mending.plan import Care, Situation, make_plan, options_from, visit_costs
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

    def test_what_is_spared_decides_how_early_it_is_risked(self):
        facts = {"rescue-stick": "yes", "bench": "yes"}
        situation, costs = Situation(facts=facts), visit_costs(PACK, Situation(facts=facts))
        beliefs = believe(PACK, Evidence(seen={"drive-light": "steady", "drive-noise": "clicks"})).beliefs

        def risked(care):
            options = options_from(PACK, situation, care == "speed")
            plan = make_plan(beliefs, options, costs, Care(PACK.grades.prices[care], PACK.grades.hand_over))
            steps = [step for visit in plan.visits for step in visit.steps]
            names = [step.id for step in steps]
            first = next((number for number, step in enumerate(steps) if step.stakes == "files"), len(steps))
            return first, first == len(steps) or "copy-personal-files" in names[:first]

        (careful, copied), (hasty, _) = risked("files"), risked("speed")
        self.assertLess(hasty, careful)
        self.assertTrue(copied)


if __name__ == "__main__":
    unittest.main()
