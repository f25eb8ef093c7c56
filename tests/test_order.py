"""What never depends on luck: in random cases no plan erases before it keeps, for any care."""

import unittest
from random import Random

import msgspec

from mending.case import plan_of
from mending.case.events import Visiting, VisitStep
from mending.case.reasoning import facts_of, situation_of
from mending.case.state import CaseState, next_step
from mending.knowledge import ReportKind, answers_of, base_pack
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
                *self.held_back(state),
            ):
                there = PACK.steps[first].gives
                if there and all(known.get(name) == answer for name, answer in there.items()):
                    continue
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

    def held_back(self, state):
        """What precautions ask for here."""
        situation = situation_of(state, PACK)
        for row in PACK.precautions.values():
            if situation.calls_for(row):
                waiting = {step.id for step in PACK.steps.values() if row.holds_back(step)}
                yield waiting, row.step

    def test_a_drive_that_is_likely_failing_is_copied_before_anything_strains_it(self):
        seen = {
            "slow-before": "slow",
            "drive-noise": "clicks",
            "drive-light": "steady",
            "came-on": "slowly",
        }
        facts = {"family": "nt", "large-drive": "yes", "bench": "yes"}
        plan = plan_of(CaseState(facts=facts, seen=seen), PACK)
        steps = [step.id for visit in plan.visits for step in visit.steps]
        straining = [name for name in steps if PACK.steps[name].strains]
        self.assertTrue(straining)
        self.assertLess(steps.index("image-drive"), min(steps.index(name) for name in straining))
        without = plan_of(CaseState(facts=facts | {"large-drive": "no"}, seen=seen), PACK)
        self.assertNotIn("image-drive", {s.id for v in without.visits[:1] for s in v.steps})

    def test_no_step_of_another_family_is_in_any_plan(self):
        strange = {"linux": {Place.RECOVERY, Place.SAFE_MODE}}
        for family in ("nt", "linux", "darwin"):
            for seed in range(20):
                state = random_case(f"{family}-{seed}")
                state = CaseState(facts={**state.facts, "family": family}, seen=state.seen)
                plan = plan_of(state, PACK)
                planned = {step.id: visit.place for visit in plan.visits for step in visit.steps}
                for name in [*planned, *(row.id for row in plan.blocked)]:
                    wanted = answers_of(PACK.steps[name].needs.get("family", family))
                    self.assertIn(family, wanted, name)
                self.assertFalse(set(planned.values()) & strange.get(family, set()))


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


class BehindTheTrace(unittest.TestCase):
    """Our own repairs before the disk is at hand."""

    def steps(self, state):
        """By its name, each planned step with its place and its visit."""
        visits = plan_of(state, PACK).visits
        return {
            step.id: (visit.place, number, step)
            for number, visit in enumerate(visits)
            for step in visit.steps
        }

    def without_disk(self, **facts):
        seen = {"after-logo": "message", "message-about": "no-system"}
        return CaseState(facts={"family": "nt", "firmware": "bios", **facts}, seen=seen)

    def test_what_the_trace_names_is_mended_where_it_was_traced(self):
        for fact, place in (("bench", Place.BENCH), ("own-stick", Place.OWN_STICK)):
            there, _, step = self.steps(self.without_disk(**{fact: "yes"}))["trace-disk"]
            self.assertEqual((there, step.repair), (place, None))
            self.assertEqual(step.leads_to["boot-sector-damaged"], "restore-boot-sector")
            self.assertEqual(step.leads_to["boot-code-damaged"], "write-boot-code")
            self.assertEqual(next(iter(step.leads_to)), "boot-sector-damaged")  # the likeliest
            of_another_family = {"correct-volume-name", "name-sound-kernel", "restore-superblock"}
            self.assertFalse(of_another_family & set(step.leads_to.values()))
            options = options_from(PACK, situation_of(self.without_disk(**{fact: "yes"}), PACK))
            repairs = [option for option in options if option.repair and not option.blocked]
            self.assertGreater(len(repairs), 10)
            self.assertEqual({option.place for option in repairs}, {place})
            self.assertTrue(all("trace-disk" in option.after for option in repairs))

    def test_what_no_finding_calls_for_is_planned_behind_the_trace_in_its_visit(self):
        seen = {"after-logo": "status-screen", "recent-change": "update", "recovery-opens": "no"}
        facts = {"family": "nt", "own-stick": "yes", "bench": "no"}
        found = self.steps(CaseState(facts=facts, seen=seen))
        self.assertEqual(found["set-half-done-aside"][:2], found["trace-disk"][:2])

    def test_where_the_trace_could_not_be_made_no_repair_is_offered(self):
        steps = ("trace-disk", "set-half-done-aside", "swap-power")
        planned = tuple(VisitStep(step=name, minutes=1, chance=0.1, why="") for name in steps)
        for kind in (ReportKind.NOT_RUN, ReportKind.NOTHING_WRONG):
            visit = Visiting(
                at="2026-12-01T09:00:00+00:00", place=Place.BENCH, how="", steps=planned
            )
            state = CaseState(visit=visit, in_visit=(("trace-disk", kind),))
            self.assertEqual(next_step(state, PACK), "swap-power")

    def test_a_trace_that_was_made_without_the_disk_in_the_case_leads_to_none(self):
        state = self.without_disk(bench="yes")
        situation = situation_of(state, PACK)
        tried = msgspec.structs.replace(situation, tried={"trace-disk": True})
        for option in options_from(PACK, tried):
            if option.repair:
                self.assertIn("mending add CASE IMAGE", option.blocked, option.id)


if __name__ == "__main__":
    unittest.main()
