"""Cases: they survive crashes and two programs at once; what is recorded changes causes and
plan.
"""

import json
import shutil
import subprocess
import sys
import time
import unittest
from pathlib import Path

from mending.case import load_case, plan_of, saw, started, tried, work
from mending.case.events import Added, Learned
from mending.case.folder import held
from mending.case.folder import record as append
from mending.case.reasoning import facts_of, situation_of
from mending.knowledge import base_pack
from mending.model import Hand, InputError, Place, RefusedError
from mending.plan import visit_costs
from mending.reason import ReportKind
from mending.repair.boot import own_code
from mending.workshop import BIOS_FAULTS, bios_disk
from tests.support import PROGRAM, InFolder, patch, sha

HAND = Hand("the test", "2026-03-02T08:10:00+00:00", 0.2)
HOLD = """
import sys, time; from pathlib import Path
from mending.model import Hand
from mending.case.folder import held
with held(Path(sys.argv[1]), Hand("process 7 (mending work)", "2026-03-02T08:10:00+00:00")):
    print("held", flush=True); time.sleep(float(sys.argv[2]))
"""


class Crash(InFolder):
    def test_a_record_cut_off_at_any_byte_is_a_case_of_whole_events(self):
        case = self.folder / "quay-desk-9"
        self.run_here("open", case, "--fact", "form=desktop")
        self.run_here("saw", case, "logo=shown")
        self.run_here("saw", case, "lock-key=toggles")
        record = case / "record.jsonl"
        whole = record.read_bytes()
        ends = [at + 1 for at, byte in enumerate(whole) if byte == 0x0A]
        for cut in range(len(whole) + 1):
            record.write_bytes(whole[:cut])
            state = load_case(case).state
            known = len(state.facts) + len(state.seen)
            self.assertEqual(known, sum(end <= cut for end in ends))
        record.write_bytes(whole[:-7])
        again = saw(load_case(case), base_pack(), HAND, {"beeps": "none"})
        self.assertEqual(dict(again.state.seen), {"logo": "shown", "beeps": "none"})

    def test_a_damaged_line_in_the_middle_is_told_with_its_number(self):
        case = self.folder / "case"
        self.run_here("open", case)
        self.run_here("saw", case, "logo=shown")
        self.run_here("saw", case, "logo=never")
        patch(
            case / "record.jsonl",
            len((case / "record.jsonl").read_bytes().splitlines()[0]) + 60,
            b"#",
        )
        self.assertIn("line 2", self.run_here("plan", case, expect=3))

    def test_a_batch_of_events_with_a_lost_sector_is_passed_over_whole_and_said(self):
        case = self.folder / "case"
        self.run_here("open", case)
        record = case / "record.jsonl"
        before = record.read_bytes()
        names = ("logo", "beeps")
        events = [Learned(at=HAND.since, notes={name: name * 400}) for name in names]
        grown = append(load_case(case), HAND, *events)
        self.assertEqual(len(grown.state.notes), 2)
        whole = record.read_bytes()
        for at in range(len(before), len(whole), 512):
            torn = whole[:at] + bytes(min(512, len(whole) - at)) + whole[at + 512 :]
            record.write_bytes(torn)
            read = load_case(case)
            self.assertEqual((len(read.state.notes), read.torn), (0, True))
        self.assertIn("unfinished", self.run_here("cases", case.parent))
        saw(load_case(case), base_pack(), HAND, {"logo": "shown"})
        self.assertFalse(load_case(case).torn)
        self.assertTrue(record.read_bytes().startswith(before))

    def test_a_record_of_more_than_sixteen_mebibytes_loses_nothing(self):
        case = self.folder / "case"
        self.run_here("open", case)
        long = [Learned(at=HAND.since, notes={f"n{n}": "x" * 1_000_000}) for n in range(18)]
        for event in long:
            append(load_case(case), HAND, event)
        self.run_here("saw", case, "logo=shown")
        state = load_case(case).state
        self.assertEqual((len(state.notes), dict(state.seen)), (18, {"logo": "shown"}))

    def test_a_case_from_elsewhere_leads_nowhere(self):
        secret = self.folder / "secret.txt"
        secret.write_text("Own Words Of The Technician")
        case = self.folder / "case"
        self.run_here("open", case)
        (case / "evidence").mkdir()
        for name in ("../../secret.txt", str(secret), ".."):
            one = case.with_name(f"case-{len(name)}")
            shutil.copytree(case, one)
            added = Added(at=HAND.since, path="x", sort="text", bytes=1, copy=name)
            append(load_case(one), HAND, added)
            says = self.run_here("crashes", one, expect=3)
            self.assertIn("outside", says)
            self.assertNotIn("Own Words", says)
        linked = self.folder / "linked"
        shutil.copytree(case, linked)
        (linked / "evidence" / "kept").symlink_to(secret)
        added = Added(at=HAND.since, path="x", sort="text", bytes=1, copy="kept")
        append(load_case(linked), HAND, added)
        self.assertIn("is a link", self.run_here("crashes", linked, expect=3))
        for name in ("evidence", "undo", "record.jsonl"):
            other = self.folder / f"link-{name}"
            shutil.copytree(case, other)
            if (other / name).is_dir():
                (other / name).rmdir()
            (other / name).unlink(missing_ok=True)
            (other / name).symlink_to(self.folder)
            self.assertIn("is a link", self.run_here("plan", other, expect=3))

    def test_a_case_is_never_opened_over_another(self):
        self.run_here("open", self.folder / "case")
        self.assertIn("a case already", self.run_here("open", self.folder / "case", expect=4))
        (self.folder / "full").mkdir()
        (self.folder / "full" / "letter.txt").write_text("keep")
        self.run_here("open", self.folder / "full", expect=4)
        self.assertEqual([path.name for path in (self.folder / "full").iterdir()], ["letter.txt"])


class TwoAtOnce(InFolder):
    def hold(self, case, seconds):
        holder = subprocess.Popen(
            [sys.executable, "-c", HOLD, case, str(seconds)], stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(holder.stdout.close)
        self.addCleanup(holder.wait)
        holder.stdout.readline()

    def test_the_second_waits_when_the_first_is_short(self):
        self.run_here("open", self.folder / "case")
        self.hold(self.folder / "case", 1.0)
        self.run_here("saw", self.folder / "case", "logo=shown")

    def test_the_second_is_told_who_holds_the_case(self):
        self.run_here("open", self.folder / "case")
        self.hold(self.folder / "case", 3.0)
        with self.assertRaises(RefusedError) as caught:
            saw(load_case(self.folder / "case"), base_pack(), HAND, {"logo": "shown"})
        self.assertIn("process 7 (mending work) since 2026", caught.exception.says)

    def test_twelve_programs_at_once_lose_no_event(self):
        case = self.folder / "case"
        self.run_here("open", case)
        words = [
            (PROGRAM, "tried", case, "unplug-extras", "nothing-wrong", "--note", str(number))
            for number in range(12)
        ]
        programs = [subprocess.Popen(word, stdout=subprocess.DEVNULL) for word in words]
        self.assertEqual([program.wait() for program in programs], [0] * 12)
        self.assertEqual(
            sorted(int(one.note) for one in load_case(case).state.tried), list(range(12))
        )

    def test_a_lock_left_by_a_dead_program_holds_nobody_up(self):
        self.run_here("open", self.folder / "case")
        (self.folder / "case" / "lock").touch()
        before = time.monotonic()
        with held(Path(self.folder / "case"), HAND):
            self.assertLess(time.monotonic() - before, 60)


class Flow(InFolder):
    """What is recorded counts."""

    def setUp(self):
        super().setUp()
        self.case = self.folder / "ferry"
        self.pack = base_pack()

    def top(self):
        return self.json_here("causes", self.case)["causes"][0]["id"]

    def test_signs_alone_lead_to_hardware(self):
        self.run_here("open", self.case, "--fact", "bench=yes", "--fact", "family=nt")
        self.run_here(
            "saw", self.case, "logo=never", "beeps=pattern", "lock-key=dead", "recent-change=knock"
        )
        self.assertEqual(self.top(), "memory-loose")
        plan = self.json_here("plan", self.case)
        self.assertEqual(plan["visits"][0]["steps"][0]["id"], "reseat-memory")

    def test_a_test_that_finds_nothing_and_a_start_that_fails_are_both_evidence(self):
        self.run_here("open", self.case)
        self.run_here("saw", self.case, "code-pattern=different", "when-it-fails=at-random")

        def chance():
            causes = self.json_here("causes", self.case)["causes"]
            return next(cause["chance"] for cause in causes if cause["id"] == "memory-faulty")

        first = chance()
        self.run_here("tried", self.case, "test-memory", "nothing-wrong")
        second = chance()
        self.run_here("tried", self.case, "reseat-memory", "nothing-wrong")
        self.run_here("started", self.case, "no")
        third = chance()
        self.assertTrue(first > second > third, (first, second, third))

    def test_unknown_takes_an_answer_back_and_is_not_asked_again(self):
        self.run_here("open", self.case)
        sign = self.json_here("ask", self.case)["sign"]
        self.run_here("saw", self.case, f"{sign}=unknown")
        self.assertNotEqual(self.json_here("ask", self.case)["sign"], sign)

    def test_a_step_done_is_not_planned_again_and_one_that_could_not_run_says_why(self):
        self.run_here("open", self.case, "--fact", "rescue-stick=no", "--fact", "second-pc=no")
        first = self.json_here("plan", self.case)
        step = first["visits"][0]["steps"][0]["id"]
        self.run_here("tried", self.case, step, "nothing-wrong", "--code", "0333-W3")
        plan = self.json_here("plan", self.case)
        self.assertNotIn(step, [step["id"] for visit in plan["visits"] for step in visit["steps"]])
        self.assertTrue(any("rescue-stick" in one["says"] for one in plan["blocked"]))

    def test_the_plan_says_how_near_to_the_best_it_is_and_draws_its_minutes(self):
        self.run_here("open", self.case, "--quiet")
        self.run_here("saw", self.case, "after-logo=stop-screen", "recent-change=driver")
        picture = self.folder / "minutes.svg"
        shown = self.run_here("plan", self.case, "--proof", "--figure", picture)
        self.assertIn("no order can cost less than", shown)
        for words in ("minutes of work and waiting", "by 60 min", "expected:"):
            self.assertIn(words, picture.read_text())
        plan = self.json_here("plan", self.case, "--proof")
        self.assertEqual(plan["exact"], False)
        self.assertTrue(0 < plan["gap"] < 1)
        self.assertEqual(
            plan["curve"], sorted(plan["curve"], key=lambda one: (one["minutes"], one["chance"]))
        )
        self.run_here("started", self.case, "yes")
        self.assertIn(
            "No figure was drawn",
            self.run_here("plan", self.case, "--figure", self.folder / "b.png"),
        )
        self.assertIn("needed first", shown)

    def test_what_follows_from_steps_and_signs_is_known(self):
        self.run_here("open", self.case, "--quiet", "--fact", "rescue-stick=no")
        self.run_here("saw", self.case, "after-logo=desktop", "pop-ups=yes")
        costs = visit_costs(self.pack, situation_of(load_case(self.case).state, self.pack))
        self.assertIn("from the desktop", costs[Place.SAFE_MODE].how)
        facts = facts_of(load_case(self.case).state, self.pack)
        self.assertEqual((facts["desktop-opens"], facts["rescue-stick"]), ("yes", "no"))
        self.run_here("tried", self.case, "copy-personal-files", "not-mended")
        self.assertNotIn("backup", facts_of(load_case(self.case).state, self.pack))
        self.run_here("tried", self.case, "make-rescue-stick", "mended")
        self.assertEqual(facts_of(load_case(self.case).state, self.pack)["rescue-stick"], "yes")

    def test_a_repair_that_was_undone_can_be_planned_again(self):
        draft = bios_disk(own_code())
        BIOS_FAULTS["two-active-entries"](draft)
        draft.save(self.folder / "disk.img")
        self.run_here("open", self.case, "--disk", self.folder / "disk.img")
        for _ in range(2):
            self.assertEqual(
                self.json_here("plan", self.case)["visits"][0]["steps"][0]["repair"], "active-flag"
            )
            self.run_here("mend", self.case, "active-flag", "--yes")
            self.assertEqual(load_case(self.case).state.tried[0].step, "set-active-flag")
            self.run_here("undo", self.case)
            self.assertEqual(load_case(self.case).state.tried, ())

    def test_a_wrong_entry_is_taken_back_and_the_record_keeps_both(self):
        self.run_here("open", self.case, "--quiet")
        self.run_here("saw", self.case, "after-logo=cursor")
        before = self.json_here("causes", self.case)
        self.run_here("tried", self.case, "test-memory", "found")
        self.run_here("started", self.case, "no")
        self.assertNotEqual(self.json_here("causes", self.case), before)
        self.run_here("tried", self.case, "test-memory", "--take-back")
        self.run_here("started", self.case, "--take-back")
        self.assertEqual(self.json_here("causes", self.case), before)
        kinds = [json.loads(line)["event"]["kind"] for line in self.lines()]
        self.assertEqual(kinds[-5:], ["saw", "tried", "started", "taken-back", "taken-back"])
        refused = self.run_here("tried", self.case, "test-memory", "--take-back", expect=2)
        self.assertIn("was not tried", refused)

    def lines(self):
        return (self.case / "record.jsonl").read_text().splitlines()

    def test_a_test_start_taken_back_leaves_what_was_done_before_it_waiting_for_one(self):
        self.run_here("open", self.case, "--quiet")
        self.run_here("tried", self.case, "reseat-memory", "done")
        self.run_here("started", self.case, "no")
        self.run_here("started", self.case, "--take-back")
        state = load_case(self.case).state
        self.assertEqual([report.step for report in state.since_start], ["reseat-memory"])
        self.assertEqual((state.starts, state.failed_starts), ((), ()))

    def test_being_refused_access_says_nothing_of_the_cause_and_no_time_is_no_refusal(self):
        self.run_here("open", self.case, "--quiet")
        self.run_here("saw", self.case, "after-logo=cursor")
        before = self.json_here("causes", self.case)["causes"]
        step = "write-boot-code"
        self.run_here("tried", self.case, step, "could-not-run", "--why", "refused")
        self.run_here("started", self.case, "no")
        self.assertEqual(self.json_here("causes", self.case)["causes"], before)
        situation = situation_of(load_case(self.case).state, self.pack)
        self.assertEqual(situation.tried, {step: False})
        self.run_here("tried", self.case, "test-memory", "could-not-run", "--why", "no-time")
        situation = situation_of(load_case(self.case).state, self.pack)
        self.assertEqual(situation.tried, {step: False})

    def test_a_case_is_closed_when_it_works_and_nothing_temporary_is_left(self):
        self.run_here("open", self.case, "--quiet")
        ending = ("close", self.case, "--cause", "driver-crashes", "--fix", "put-back-driver")
        self.assertIn("does not say that it works", self.run_here(*ending, expect=4))
        self.run_here("tried", self.case, "stop-automatic-restart", "found")
        self.run_here("tried", self.case, "put-back-driver", "done")
        self.run_here("started", self.case, "yes")
        self.assertIn("stop-automatic-restart", self.run_here(*ending, expect=2))
        back = [
            f"--put-back={step}=done" for step in work.to_put_back(load_case(self.case), self.pack)
        ]
        self.run_here(*ending, *back)
        before = self.lines()
        self.assertIn("is closed", self.run_here("saw", self.case, "beeps=none", expect=4))
        self.assertEqual(self.lines(), before)
        self.assertIn("closed  driver-crashes", self.run_here("cases", self.folder))
        self.run_here("close", self.case, "--reopen")
        self.run_here("saw", self.case, "beeps=none")

    def test_nothing_is_written_to_the_disk_of_a_closed_case(self):
        draft = bios_disk(own_code())
        BIOS_FAULTS["two-active-entries"](draft)
        draft.save(self.folder / "disk.img")
        self.run_here("open", self.case, "--disk", self.folder / "disk.img")
        self.run_here("started", self.case, "yes")
        self.run_here("close", self.case, "--cause", "a stick was in", "--fix", "taken out")
        before = sha(self.folder / "disk.img")
        refused = self.run_here("mend", self.case, "active-flag", "--yes", expect=4)
        self.assertIn("is closed", refused)
        self.run_here("trace", self.case)
        self.assertEqual(sha(self.folder / "disk.img"), before)

    def test_a_report_that_a_step_cannot_give_is_refused(self):
        self.run_here("open", self.case, "--quiet")
        refused = self.run_here("tried", self.case, "test-memory", "mended", expect=2)
        self.assertIn("may report: nothing-wrong, found", refused)
        refused = self.run_here("tried", self.case, "reseat-memory", "found", expect=2)
        self.assertIn("may report: done", refused)

    def test_a_working_pc_needs_no_plan(self):
        self.run_here("open", self.case)
        known = tried(load_case(self.case), self.pack, HAND, "unplug-extras", ReportKind.MENDED)
        known = started(known, HAND, works=True)
        self.assertEqual(plan_of(known.state, self.pack).visits, ())

    def test_evidence_is_sorted_by_content_and_small_files_are_kept(self):
        self.run_here("open", self.case)
        (self.folder / "screen.img").write_text("Stop: the ferry has left\n")
        self.run_here("add", self.case, self.folder / "screen.img")
        added = load_case(self.case).state.evidence[0]
        self.assertEqual(added.sort, "text")
        self.assertEqual(
            (self.case / "evidence" / added.copy).read_text(), "Stop: the ferry has left\n"
        )
        self.assertIsNone(load_case(self.case).state.disk)
        with self.assertRaises(InputError):
            load_case(self.folder)


class UnderWatch(InFolder):
    """Trouble that comes and goes: a start that works tells little, hours that pass tell more."""

    def setUp(self):
        super().setUp()
        self.case = str(self.folder / "till-3")
        self.run_here("open", self.case, "--fact", "family=nt", "--fact", "form=desktop", "--quiet")
        self.run_here("saw", self.case, "when-it-fails=warm", "stays-up=uneven")

    def test_the_longer_it_runs_the_likelier_it_is_mended(self):
        self.run_here("started", self.case, "no", "--hours", "5")
        self.run_here("tried", self.case, "clean-cooling", "done")
        chances = []
        for hours in ("1", "10", "60"):
            document = self.json_here("started", self.case, "watch", "--hours", hours)
            self.assertEqual(document["watched"]["usual_hours"], 5)
            self.assertFalse(document["works"])
            chances.append(document["watched"]["mended"])
        self.assertEqual(sorted(chances), chances)
        self.assertGreater(chances[2], 0.8)
        self.assertLess(chances[0], 0.7)

    def test_planning_goes_on_and_a_failure_counts_against_what_was_done(self):
        self.run_here("tried", self.case, "clean-cooling", "done")
        shown = self.run_here("started", self.case, "watch")
        self.assertIn("starts, under watch", shown)
        self.assertIn("should it fail again", shown)
        self.assertNotIn("clean-cooling  ", shown.partition("should it fail again")[2])
        before = {row["id"]: row["chance"] for row in self.json_here("causes", self.case)["causes"]}
        self.run_here("started", self.case, "no", "--hours", "7")
        after = {row["id"]: row["chance"] for row in self.json_here("causes", self.case)["causes"]}
        self.assertLess(after["overheating"], before["overheating"])

    def test_a_watch_is_taken_back_and_ends_when_it_works(self):
        self.run_here("tried", self.case, "clean-cooling", "done")
        self.run_here("started", self.case, "watch", "--hours", "3")
        self.run_here("started", self.case, "--take-back")
        self.assertEqual(self.json_here("started", self.case, "watch")["watched"]["hours"], 0)
        self.assertTrue(self.json_here("started", self.case, "yes")["works"])

    def test_hours_that_make_no_sense_are_refused(self):
        for words in (("yes", "--hours", "3"), ("no", "--hours", "0"), ("watch", "--hours", "nan")):
            with self.subTest(words):
                self.assertIn("Hours", self.run_here("started", self.case, *words, expect=2))


if __name__ == "__main__":
    unittest.main()
