"""Causes, questions and plans from evidence of every kind: traces, signs, reports, test starts."""

import unittest

import msgspec

from mending.case import plan_of, question_of
from mending.case.events import Added, Tried
from mending.case.reasoning import situation_of
from mending.case.state import CaseState
from mending.knowledge import base_pack
from mending.model import Place
from mending.plan import Situation, make_plan, options_from, visit_costs
from mending.reason import Evidence, Report, ReportKind, believe, telling
from mending.repair.boot import own_code
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

    def test_our_repairs_come_in_the_order_in_which_they_build_on_each_other(self):
        draft = bios_disk(own_code())
        for name in ("blank-boot-code", "blank-boot-sector"):
            BIOS_FAULTS[name](draft)
        path = self.folder / "two.img"
        draft.save(path)
        state = CaseState(
            facts={"family": "nt", "rescue-stick": "yes"},
            attached=Added(at="", path=str(path), sort="disk", bytes=0),
            trace=trace_file(path),
        )
        made = {option.id: option for option in options_from(PACK, situation_of(state, PACK))}
        self.assertIn("restore-boot-sector", made["write-boot-code"].after)
        self.assertIn("write-boot-code", made["reinstall-keeping-files"].after)
        steps = [step.id for step in plan_of(state, PACK).visits[0].steps]
        self.assertEqual(steps, ["restore-boot-sector", "write-boot-code"])
        refused = Tried(at="", step="restore-boot-sector", report=ReportKind.NOT_RUN)
        state = msgspec.structs.replace(state, tried=(refused,))
        first = plan_of(state, PACK).visits[0]
        self.assertEqual(first.steps[0].id, "write-boot-code")

    def test_two_faults_that_findings_prove_are_believed_together_and_both_are_mended_in_one_visit(
        self,
    ):
        draft = bios_disk(own_code())
        for name in ("blank-boot-code", "blank-boot-sector"):
            BIOS_FAULTS[name](draft)
        path = self.folder / "two.img"
        draft.save(path)
        trace = trace_file(path)
        result = believe(PACK, Evidence(trace=trace))
        proven = {cause.id for cause in result.causes if cause.proven}
        self.assertEqual(set(result.together), proven)
        self.assertEqual(proven, {"boot-code-damaged", "boot-sector-damaged"})
        self.assertTrue(all(cause.chance >= 0.97 for cause in result.causes if cause.proven))
        self.assertAlmostEqual(sum(result.beliefs.values()), 1.0)
        self.assertEqual(result.contradictions, ())
        dark = believe(PACK, Evidence(trace=trace, seen={"fans-lights": "none"}))
        self.assertIn(
            "fans-lights", f"{dark.contradictions[0].evidence} {dark.contradictions[0].other}"
        )
        repairs = frozenset(repair for finding in trace.findings for repair in finding.repairs)
        situation = Situation(
            facts={"firmware": "bios"}, on_bench=True, traced=True, repairs=repairs
        )
        plan = make_plan(
            result.beliefs, options_from(PACK, situation), visit_costs(PACK, situation)
        )
        first = {step.id for step in plan.visits[0].steps}
        self.assertLessEqual({"write-boot-code", "restore-boot-sector"}, first)
        self.assertGreater(plan.chance_by["30"], 0.85)

    def test_a_clean_trace_speaks_against_what_it_would_have_seen(self):
        seen = {"after-logo": "message"}
        blind, clean = (
            {
                cause.id: cause.chance
                for cause in believe(PACK, Evidence(seen=seen, trace=trace)).causes
            }
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
            situation = Situation(
                facts={"firmware": firmware}, on_bench=True, traced=True, repairs=repairs
            )
            beliefs = believe(PACK, Evidence(trace=trace)).beliefs
            plan = make_plan(beliefs, options_from(PACK, situation), visit_costs(PACK, situation))
            self.assertEqual((plan.first.id, plan.visits[0].place), (step, Place.BENCH))
            self.assertGreater(plan.chance_by["30"], 0.6)


class FromPeople(unittest.TestCase):
    def test_patterns_of_signs_lead_to_sensible_causes(self):
        for cause, seen in {
            "power-supply-dead": {"fans-lights": "none", "logo": "never", "lock-key": "dead"},
            "overheating": {"when-it-fails": "warm", "after-logo": "restart"},
            "added-device-disturbs": {"device-matters": "yes", "recent-change": "device"},
            "driver-crashes": {
                "after-logo": "stop-screen",
                "code-names-driver": "yes",
                "safe-mode-start": "yes",
            },
            "drive-failing": {"drive-light": "steady", "after-logo": "spinner"},
            "setup-forgotten": {
                "recent-change": "setup",
                "after-logo": "stop-screen",
                "code-about": "boot-volume",
            },
            "display-driver-bad": {
                "after-logo": "black-later",
                "safe-mode-start": "yes",
                "recent-change": "driver",
            },
            "shutdown-state-bad": {"when-it-fails": "after-sleep", "after-logo": "black-later"},
        }.items():
            self.assertEqual(top(seen=seen).id, cause, seen)

    def test_families_rule_causes_out(self):
        listed = {cause.id for cause in believe(PACK, Evidence(facts={"family": "darwin"})).causes}
        self.assertNotIn("settings-hive-damaged", listed)
        self.assertIn(
            "settings-hive-damaged", {cause.id for cause in believe(PACK, Evidence()).causes}
        )

    def test_a_test_start_speaks_of_all_steps_before_it_and_least_of_those_that_could_not_run(self):
        def chance(*reports):
            done = tuple(Report(step, kind) for step, kind in reports)
            causes = believe(PACK, Evidence(reports=done, failed_starts=(done,))).causes
            return {cause.id: cause.chance for cause in causes}

        before = {cause.id: cause.chance for cause in believe(PACK, Evidence()).causes}
        both = chance(("unplug-extras", ReportKind.MENDED), ("restart-once", ReportKind.MENDED))
        self.assertLess(both["added-device-disturbs"], 0.2 * before["added-device-disturbs"])
        self.assertLess(both["shutdown-state-bad"], 0.7 * before["shutdown-state-bad"])
        not_run = chance(("unplug-extras", ReportKind.NOT_RUN))
        self.assertAlmostEqual(not_run["added-device-disturbs"], before["added-device-disturbs"])

    def test_signs_are_ranked_by_what_they_tell_for_a_minute(self):
        first = [sign.id for sign in telling(PACK, Evidence())]
        self.assertEqual(first[0], "after-logo")
        self.assertNotIn(
            first[0], [sign.id for sign in telling(PACK, Evidence(), frozenset({first[0]}))]
        )

    def test_questions_pay_for_their_minutes_and_end(self):
        facts = {
            "family": "nt",
            "bench": "yes",
            "rescue-stick": "yes",
            "backup": "yes",
            "form": "desktop",
        }
        seen, asked = {"after-logo": "stop-screen", "logo": "shown", "recent-change": "driver"}, []
        truth = {
            "code-names-driver": "yes",
            "code-about": "driver",
            "code-pattern": "same",
            "safe-mode-start": "yes",
        }
        while (question := question_of(CaseState(facts=facts, seen=seen), PACK)).sign is not None:
            self.assertGreaterEqual(question.saves, question.minutes)  # to a tenth of a minute
            self.assertNotIn(question.sign, asked)
            asked.append(question.sign)
            if question.fact:
                facts = {**facts, question.sign: next(iter(question.answers))}
            else:
                seen = {
                    **seen,
                    question.sign: truth.get(question.sign, next(iter(question.answers))),
                }
            self.assertLess(len(asked), 25)
        self.assertTrue(asked)

    def test_age_history_and_family_shift_what_is_likely_before_anything_is_seen(self):
        def chance(cause, **facts):
            return {
                cause.id: cause.chance for cause in believe(PACK, Evidence(facts=facts)).causes
            }[cause]

        self.assertGreater(
            chance("drive-failing", age="old"), 4 * chance("drive-failing", age="new")
        )
        self.assertGreater(chance("memory-loose", history="opened"), 2 * chance("memory-loose"))
        self.assertLess(
            chance("boot-entry-lost", firmware="bios"),
            0.1 * chance("boot-entry-lost", firmware="uefi"),
        )

    def test_what_seldom_goes_together_is_named(self):
        odd = believe(PACK, Evidence(seen={"security-message": "yes", "charge-light": "neither"}))
        self.assertEqual(len(odd.contradictions), 1)
        self.assertGreater(odd.contradictions[0].ratio, 4)
        usual = believe(PACK, Evidence(seen={"fans-lights": "none", "charge-light": "neither"}))
        self.assertEqual(usual.contradictions, ())

    def test_signs_that_tell_the_same_count_for_less_than_their_sum(self):
        def weights(**seen):
            cause = next(
                cause
                for cause in believe(PACK, Evidence(seen=seen)).causes
                if cause.id == "power-supply-dead"
            )
            return sum(one.weight for one in (*cause.for_, *cause.against))

        apart = weights(**{"fans-lights": "none"}) + weights(logo="never")
        both = weights(**{"fans-lights": "none"}, logo="never")
        self.assertLess(both, 0.85 * apart)
        self.assertGreater(both, 0.5 * apart)

    def test_what_a_step_reports_is_read_with_what_it_mends(self):
        def chance(kind, cause):
            done = Evidence(facts={"family": "nt"}, reports=(Report("check-file-system", kind),))
            return {cause.id: cause.chance for cause in believe(PACK, done).causes}[cause]

        nothing, mended = (
            chance(kind, "file-system-damaged")
            for kind in (ReportKind.NOTHING_WRONG, ReportKind.MENDED)
        )
        self.assertGreater(mended, 20 * nothing)
        self.assertGreater(
            chance(ReportKind.NOT_MENDED, "drive-failing"),
            chance(ReportKind.MENDED, "drive-failing"),
        )

    def test_a_disk_is_traced_from_a_stick_where_that_is_the_shorter_way(self):
        seen = {"after-logo": "message", "message-about": "no-device"}
        for bench, stick, place in (
            ("yes", "no", Place.BENCH),
            ("no", "yes", Place.OWN_STICK),
            ("yes", "yes", Place.OWN_STICK),
        ):
            facts = {"family": "nt", "bench": bench, "own-stick": stick}
            situation = Situation(facts=facts)
            options = {each.id: each for each in options_from(PACK, situation)}
            self.assertIs(options["trace-disk"].place, place)
            plan = make_plan(
                believe(PACK, Evidence(facts=facts, seen=seen)).beliefs,
                list(options.values()),
                visit_costs(PACK, situation),
            )
            planned = {step.id: visit.place for visit in plan.visits for step in visit.steps}
            self.assertIs(planned["trace-disk"], place)

    def test_a_blocked_visit_or_need_says_what_would_lift_it(self):
        facts = {"restore-point": "no", "rescue-stick": "no", "second-pc": "no", "family": "nt"}
        situation = Situation(facts=facts)
        plan = make_plan(
            believe(PACK, Evidence(facts=facts, seen={"after-logo": "spinner"})).beliefs,
            options_from(PACK, situation),
            visit_costs(PACK, situation),
        )
        self.assertNotIn(Place.RESCUE_STICK, [visit.place for visit in plan.visits])
        reasons = {one.id: one.says for one in plan.blocked}
        self.assertIn("restore-point = yes", reasons["go-to-restore-point"])
        self.assertIn("make-rescue-stick would supply it", reasons["reinstall-keeping-files"])


if __name__ == "__main__":
    unittest.main()
