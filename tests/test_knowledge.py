"""The pack is whole, its faults are told by file, table and key, and every plan keeps to needs,
order and stakes.
"""

import shutil
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

import mending.knowledge
from mending.knowledge import answers_of, base_pack, load_pack
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


def changed_pack(folder, file, old, new):
    """A copy of the pack in which something stands written otherwise once."""
    shutil.copytree(BASE, folder, dirs_exist_ok=True)
    path = Path(folder) / file
    text = path.read_text()
    if old not in text:
        raise AssertionError(f"{file} has no {old!r}")
    path.write_text(text.replace(old, new, 1))
    return Path(folder)


class Content(unittest.TestCase):
    def test_it_covers_every_phase_and_place(self):
        self.assertGreaterEqual(len(PACK.signs), 45)
        self.assertGreaterEqual(len(PACK.causes), 45)
        self.assertGreaterEqual(len(PACK.steps), 70)
        self.assertEqual({cause.phase for cause in PACK.causes.values()}, set(Phase))
        places = {place for step in PACK.steps.values() for place in (step.place, *step.also)}
        self.assertEqual(places, set(Place))

    def test_every_fault_is_told_with_file_table_and_key(self):
        faults = {
            (
                "screens.toml",
                'shown = "after-logo=spinner", passed = "loader"',
                'shown = "after-logo=spinner"',
            ): "screens.toml, screen after-logo=spinner",
            ("screens.toml", '"after-logo=cursor"', '"after-logo=curser"'): "no such answer",
            ("screens.toml", "how = ", "hov = "): "hov",
            ("screens.toml", '"after-logo=cursor"', '"after-logo=menu"'): "the shown is used twice",
            ("resorts.toml", '"put-back-to-new",', '"put-to-moon",'): "no step 'put-to-moon'",
            (
                "tool_reports.toml",
                'pattern = "access',
                'pattern = "(access',
            ): "the pattern is none",
            (
                "signs.toml",
                'denied = "none"',
                'denied = "silence"',
            ): "denied: 'silence' is no answer",
            (
                "signs.toml",
                'stops_before = "firmware"',
                'stops_before = "power", reaches = "power"',
            ): "it cannot reach power and stop before that",
            (
                "signs.toml",
                '"power light"',
                '"|"',
            ): "a phrase without a word",
            (
                "causes.toml",
                "stops = { power = 8",
                "stops = { power = -8",
            ): "the weights must be above 0",
            (
                "causes.toml",
                'phase = "power"',
                'phase = "lunch"',
            ): "causes.toml, cause power-supply-dead",
            (
                "causes.toml",
                "fans-lights = { none",
                "fan-light = { none",
            ): "shows.fan-light: there is no such sign",
            (
                "causes.toml",
                'none = "usual", brief',
                'loud = "usual", brief',
            ): "'loud' is no answer",
            (
                "steps.toml",
                'needs = { form = "laptop" }',
                'needs = { form = "perhaps" }',
            ): "needs.form",
            (
                "steps.toml",
                'needs = { form = "laptop" }',
                'needs = { form = "laptop", bench = "no" }',
            ): "no PC can have all",
            (
                "steps.toml",
                'gives = { backup = "yes" }',
                'gives = { bench = "yes" }',
            ): "it needs what it gives",
            (
                "steps.toml",
                "[step.reports]\nnothing-wrong",
                "[step.reports]\nnot-run",
            ): "finds nothing wrong",
            ("facts.toml", 'id = "age"', 'id = "years"'): "likelier: there is no fact 'age'",
            (
                "signs.toml",
                'implies = { desktop-opens = "no" }',
                'implies = { desktop-opens = "soon" }',
            ): "implies",
            (
                "causes.toml",
                'security-message = { yes = "usual" }',
                "",
            ): "sign security-message: no cause makes it more or less likely",
            (
                "steps.toml",
                'after = ["image-drive"]',
                'after = ["replace-drive"]',
            ): "replace-drive, after: the order goes in a circle",
            (
                "steps.toml",
                'power-supply-dead = "seldom"',
                'power-supply-dead = "mostly"',
            ): "'mostly' is no grade",
            (
                "causes.toml",
                'charge-light = { neither = "often" }',
                'charge-light = { neither = "oft{}en" }',
            ): "'oft{}en' is no grade",
            ("steps.toml", "minutes = 3\n", "minutes = 0\n"): "minutes must be above 0",
            ("steps.toml", "does =", "dose ="): "steps.toml, step swap-power",
            ("signs.toml", 'id = "beeps"', 'id = "logo"'): "the id is used twice",
            ("grades.toml", "[weights]", "[weights"): "grades.toml is not TOML",
        }
        for (file, old, new), words in faults.items():
            with tempfile.TemporaryDirectory() as folder, self.subTest(words):
                with self.assertRaises(InputError) as caught:
                    load_pack(changed_pack(folder, file, old, new))
                self.assertIn(words, caught.exception.says)


class Thinking(unittest.TestCase):
    @given(SEEN, FACTS)
    @settings(max_examples=60, deadline=None)
    def test_beliefs_add_up_and_weights_explain_them(self, seen, facts):
        result = believe(PACK, Evidence(facts=facts, seen=seen))
        self.assertAlmostEqual(sum(result.beliefs.values()), 1.0)
        for cause in result.causes:
            told = [option.evidence for option in (*cause.for_, *cause.against)]
            self.assertLessEqual(len(told), len(seen))
            self.assertTrue(
                all(option.weight > 0 for option in cause.for_)
                and all(option.weight < 0 for option in cause.against)
            )

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
    @settings(max_examples=50, deadline=None)
    def test_every_plan_keeps_to_needs_order_and_stakes(self, seen, facts, done):
        situation = Situation(facts={**seen, **facts}, tried=dict.fromkeys(done, True))
        options = options_from(PACK, situation)
        beliefs = believe(PACK, Evidence(facts=facts, seen=seen)).beliefs
        plan = make_plan(beliefs, options, visit_costs(PACK, situation))
        by_id = {option.id: option for option in options}
        before, known = set(done), {**seen, **facts}
        for step in [step for visit in plan.visits for step in visit.steps]:
            option = by_id[step.id]
            self.assertNotIn(step.id, done)
            self.assertTrue(set(option.after) <= before, step.id)
            for name, need in PACK.steps[step.id].needs.items():
                self.assertIn(known.get(name, answers_of(need)[0]), answers_of(need), step.id)
            if option.stakes == "files":
                self.assertEqual(known.get("backup"), "yes", step.id)
            before.add(step.id)
            known |= PACK.steps[step.id].gives
        chances = list(plan.chance_by.values())
        self.assertEqual(chances, sorted(chances))

    def test_what_is_spared_decides_how_early_it_is_risked(self):
        facts = {
            "rescue-stick": "yes",
            "bench": "yes",
            "family": "nt",
            "restore-point": "yes",
            "recovery-opens": "yes",
        }
        situation, costs = Situation(facts=facts), visit_costs(PACK, Situation(facts=facts))
        seen = {"after-logo": "spinner", "recent-change": "update", "repair-loop": "could-not"}
        beliefs = believe(PACK, Evidence(facts=facts, seen=seen)).beliefs

        def before(care):
            """Steps planned before the first that puts programs or files at stake."""
            options = options_from(PACK, situation)
            plan = make_plan(
                beliefs, options, costs, Care(PACK.grades.prices[care], PACK.grades.hand_over)
            )
            steps = [step for visit in plan.visits for step in visit.steps]
            return next(
                (at for at, step in enumerate(steps) if step.stakes in {"programs", "files"}),
                len(steps),
            )

        self.assertLess(before("speed"), before("programs"))

    def test_personal_files_are_put_at_stake_behind_a_copy(self):
        erase = next(
            option for option in options_from(PACK, Situation()) if option.id == "reinstall-erasing"
        )
        self.assertIn("copy-personal-files", erase.after)
        facts = {"large-drive": "no", "second-pc": "no", "spare-parts": "no"}
        tried = {"fetch-parts": False}
        stuck = next(
            option
            for option in options_from(PACK, Situation(facts=facts, tried=tried))
            if option.id == erase.id
        )
        self.assertIn("copy of the personal files first", stuck.blocked)

    def test_a_missing_need_is_supplied_by_a_step_or_named_with_what_would_supply_it(self):
        def option(name, **facts):
            return next(
                option for option in options_from(PACK, Situation(facts=facts)) if option.id == name
            )

        supplied = option("scan-from-stick", **{"rescue-stick": "no", "second-pc": "yes"})
        self.assertEqual((supplied.blocked, "make-rescue-stick" in supplied.after), ("", True))
        stuck = option("scan-from-stick", **{"rescue-stick": "no", "second-pc": "no"})
        for words in (
            "rescue-stick = yes",
            "make-rescue-stick would supply it",
            "second-pc = yes",
            "Borrow one",
        ):
            self.assertIn(words, stuck.blocked)
        self.assertIn("A cable", option("finish-updates", network="no").blocked)
        self.assertIn("plug-in-mains", option("finish-updates", **{"mains-power": "no"}).after)

    def test_what_nobody_knows_counts_by_how_often_it_holds_and_what_is_seen_counts_at_once(self):
        def chance(**facts):
            return next(
                option
                for option in options_from(PACK, Situation(facts=facts))
                if option.id == "put-back-driver"
            ).fixes

        known = chance(**{"family": "nt", "safe-mode-start": "yes"})["driver-crashes"]
        self.assertAlmostEqual(known, 0.8)
        self.assertAlmostEqual(chance(family="nt")["driver-crashes"], 0.8 * 0.8)
        self.assertLess(chance(family="nt")["boot-driver-bad"], 0.25 * known)


if __name__ == "__main__":
    unittest.main()
