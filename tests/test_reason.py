"""Causes, questions and plans from evidence of every kind: traces, signs, reports, test starts."""

import unittest

from mending.knowledge import base_pack
from mending.model import Place
from mending.plan import Situation, make_plan, options_from, visit_costs
from mending.reason import Evidence, Report, ReportKind, believe, best_question
from mending.repair import own_code
from mending.workshop import BIOS_FAULTS, UEFI_FAULTS, bios_disk, uefi_disk
from tests.support import InFolder, trace_file

PACK = base_pack()


def top(**evidence):
    return believe(PACK, Evidence(**evidence)).causes[0]


class FromTraces(InFolder):
    def trace(self, firmware, name=None):
        draft = bios_disk(own_code()) if firmware == "bios" else uefi_disk()
        if name:
            (BIOS_FAULTS if firmware == "bios" else UEFI_FAULTS)[name](draft)
        path = self.folder / "disk.img"
        draft.save(path)
        return trace_file(path)

    def test_what_a_trace_proves_is_believed_and_the_finding_is_named(self):
        for firmware, name, cause in (
            ("bios", "blank-boot-code", "boot-code-damaged"),
            ("bios", "two-active-entries", "active-flag-wrong"),
            ("bios", "blank-boot-sector", "boot-sector-damaged"),
            ("bios", "no-signature", "table-damaged"),
            ("uefi", "blank-both-headers", "table-damaged"),
            ("uefi", "no-protective-record", "table-damaged"),
            ("uefi", "blank-efi-boot-sector", "boot-sector-damaged"),
            ("uefi", "truncated-loader", "efi-loader-damaged"),
        ):
            with self.subTest(name):
                trace = self.trace(firmware, name)
                first = top(trace=trace)
                self.assertEqual(first.id, cause)
                self.assertGreater(first.chance, 0.7)
                self.assertIn(trace.fatal[0].says, first.for_[0].evidence)

    def test_a_clean_trace_speaks_against_what_it_would_have_seen(self):
        seen = {"after-logo": "message"}
        blind, clean = (
            {one.id: one.chance for one in believe(PACK, Evidence(seen=seen, trace=trace)).causes}
            for trace in (None, self.trace("bios"))
        )
        for cause in ("boot-code-damaged", "boot-sector-damaged", "table-damaged"):
            self.assertLess(clean[cause], blind[cause])
        self.assertGreater(clean["wrong-boot-device"], blind["wrong-boot-device"])

    def test_the_plan_starts_with_the_repair_that_the_findings_call_for(self):
        for firmware, name, step in (
            ("bios", "blank-boot-code", "write-boot-code"),
            ("uefi", "blank-efi-boot-sector", "restore-boot-sector"),
            ("uefi", "no-protective-record", "copy-partition-table"),
        ):
            trace = self.trace(firmware, name)
            repairs = frozenset(repair for finding in trace.findings for repair in finding.repairs)
            situation = Situation(facts={"firmware": firmware}, on_bench=True, traced=True, repairs=repairs)
            beliefs = believe(PACK, Evidence(trace=trace)).beliefs
            plan = make_plan(beliefs, options_from(PACK, situation), visit_costs(PACK, situation))
            self.assertEqual((plan.first.id, plan.visits[0].place), (step, Place.BENCH))
            self.assertGreater(plan.chance_by["30"], 0.6)


class FromPeople(unittest.TestCase):
    def test_patterns_of_signs_lead_to_sensible_causes(self):
        for cause, seen in {
            "power-supply-dead": {"fans-lights": "none", "logo": "never", "lock-key": "dead"},
            "overheating": {"when-it-fails": "warm", "after-logo": "restart"},
            "added-device-disturbs": {"device-matters": "yes", "recent-change": "hardware"},
            "driver-crashes": {"after-logo": "stop-screen", "code-names-driver": "yes", "safe-mode-start": "yes"},
            "drive-failing": {"drive-light": "steady", "after-logo": "spinner"},
            "setup-forgotten": {"clock-wrong": "yes", "recent-change": "setup"},
            "display-driver-bad": {"after-logo": "black-later", "safe-mode-start": "yes", "recent-change": "driver"},
            "shutdown-state-bad": {"when-it-fails": "after-sleep"},
        }.items():
            self.assertEqual(top(seen=seen).id, cause, seen)

    def test_families_rule_causes_out(self):
        listed = {one.id for one in believe(PACK, Evidence(facts={"family": "darwin"})).causes}
        self.assertNotIn("settings-hive-damaged", listed)
        self.assertIn("settings-hive-damaged", {one.id for one in believe(PACK, Evidence()).causes})

    def test_a_test_start_speaks_of_all_steps_before_it_and_least_of_those_that_could_not_run(self):
        def chance(*reports):
            done = tuple(Report(step, kind) for step, kind in reports)
            causes = believe(PACK, Evidence(reports=done, failed_starts=(done,))).causes
            return {one.id: one.chance for one in causes}

        before = {one.id: one.chance for one in believe(PACK, Evidence()).causes}
        both = chance(("unplug-extras", ReportKind.MENDED), ("set-boot-order", ReportKind.MENDED))
        self.assertLess(both["added-device-disturbs"], 0.2 * before["added-device-disturbs"])
        self.assertLess(both["wrong-boot-device"], 0.4 * before["wrong-boot-device"])
        not_run = chance(("unplug-extras", ReportKind.NOT_RUN))
        self.assertAlmostEqual(not_run["added-device-disturbs"], before["added-device-disturbs"])

    def test_questions_tell_most_first_and_end(self):
        seen, passed, asked = {}, frozenset(), []
        while (question := best_question(PACK, Evidence(seen=seen), passed)).sign is not None:
            asked.append(question.sign)
            passed |= {question.sign}
        self.assertEqual((len(asked), len(set(asked))), (len(PACK.signs), len(PACK.signs)))
        self.assertEqual(best_question(PACK, Evidence()).sign, asked[0])
        self.assertGreater(best_question(PACK, Evidence()).bits, 0.2)

    def test_a_blocked_visit_or_need_says_what_would_lift_it(self):
        facts = {"bench": "no", "rescue-stick": "no", "firmware": "uefi"}
        situation = Situation(facts=facts)
        plan = make_plan(
            believe(PACK, Evidence(facts=facts, seen={"fans-lights": "none"})).beliefs,
            options_from(PACK, situation),
            visit_costs(PACK, situation),
        )
        self.assertNotIn(Place.BENCH, [visit.place for visit in plan.visits])
        reasons = {one.id: one.says for one in plan.blocked}
        self.assertIn("bench = yes", reasons["swap-power"])


if __name__ == "__main__":
    unittest.main()
