"""From what stands on the screen to the last resort: screens, codes and messages as evidence, what
tools say, and a plan that never falls silent.
"""

import tomllib
import unittest
from pathlib import Path

import msgspec
from benchmarks import replays
from hypothesis import given
from hypothesis import strategies as st

from mending.case import causes_of, load_case, plan_of
from mending.case.events import Learned, Tried
from mending.case.reasoning import facts_of, open_questions
from mending.case.state import CaseState, fold
from mending.case.work import heard
from mending.crash.lookup import look_up
from mending.crash.screens import SeenCode, codes_in
from mending.knowledge import ReportKind, base_codes, base_pack
from mending.model import Place
from mending.reason import Understanding, report_of, tool_report
from tests.support import InFolder

PACK, CODES = base_pack(), base_codes()
UNDERSTANDING = Understanding(PACK, CODES)
DATA = Path(__file__).parent / "data"
BASE = Path(replays.__file__).parent.parent / "src" / "mending" / "knowledge" / "packs" / "base"
AT = "2026-01-05T09:00:00Z"
LEADS = 0.4
_SAME = ("says", "suspects", "implies", "causes", "family")
PART = 12
"""One call of so many is replayed here; `make bench` replays all."""
POWER = {"fans-lights", "charge-light", "beeps", "other-socket", "logo", "lock-key"}


def said(*texts, family="nt", **facts):
    events = [Learned(at=AT, facts={**({"family": family} if family else {}), **facts})]
    return fold([*events, *(heard(UNDERSTANDING.of(text), AT) for text in texts)])


class Meanings(unittest.TestCase):
    """What a code or message is known for weighs as much as that."""

    def leads(self, state, causes, where):
        ranked = causes_of(state, PACK).causes
        share = sum(cause.chance for cause in ranked if cause.id in causes)
        self.assertIn(ranked[0].id, causes, where)
        self.assertGreaterEqual(share, LEADS, where)

    def test_the_causes_of_every_row_lead_when_its_text_alone_is_said(self):
        for rows in (CODES.stops.values(), CODES.statuses.values()):
            for row in rows:
                seen = codes_in(f"0x{row.number:08X}", CODES)
                self.assertEqual([code.name for code in seen], [row.name])
                if row.causes:
                    self.leads(CaseState(codes=seen), row.causes, row.name)
        told = [seen for seen in _all_messages() if seen.causes]
        self.assertGreater(len(told), 90)
        for seen in told:
            self.leads(CaseState(codes=(seen,), seen=seen.implies), seen.causes, seen.says)

    def test_texts_off_screens_lead_to_what_they_stand_for(self):
        for row in tomllib.loads((DATA / "screens.toml").read_text())["screen"]:
            self.leads(said(row["said"], family=row["family"]), row["leads_to"], row["said"])

    def test_words_of_a_message_are_no_other_sign(self):
        rows = (
            ("it says the start went wrong and to press restart to try again", "after-logo", None),
            (
                "a missing or corrupt boot manager file, press ctrl alt del to restart",
                "after-logo",
                "message",
            ),
            (
                "it stopped itself and will restart, below it says UNEXPECTED KERNEL MODE TRAP",
                "after-logo",
                "stop-screen",
            ),
        )
        for text, sign, answer in rows:
            with self.subTest(text):
                self.assertEqual(said(text).seen.get(sign), answer)
        found = look_up(
            "Your device ran into a problem and needs to restart. unexpected kernel mode trap",
            CODES,
        )
        self.assertEqual([match.name for match in found.matches], ["UNEXPECTED_KERNEL_MODE_TRAP"])

    def test_what_only_one_family_has_sets_the_family(self):
        self.assertIn("family=linux", _facts(said("ALERT! UUID=0aa1 does not exist", family="")))
        self.assertIn("family=nt", _facts(said("stop code 0x7b", family="")))
        self.assertNotIn("family=", _facts(said("no bootable device", family="")))

    def test_a_record_from_elsewhere_may_hold_any_weight(self):
        (seen,) = codes_in("0x7b", CODES)
        for weight in (float("nan"), float("inf"), -1.0, 0.0, 1e300, 1e-300):
            code = msgspec.structs.replace(seen, causes={"driver-crashes": weight, "gone": 1.0})
            chances = [cause.chance for cause in causes_of(CaseState(codes=(code,)), PACK).causes]
            self.assertTrue(all(0 <= chance <= 1 for chance in chances), weight)

    @given(st.text(max_size=80))
    def test_any_words_are_taken(self, text):
        tool_report(PACK, text)
        UNDERSTANDING.of(f"{text}, then {text}")


def _all_messages():
    for row in CODES.messages:
        same = {name: getattr(row, name) for name in _SAME}
        yield SeenCode(kind="message", code="", name=row.by, **same)


def _facts(state):
    return " ".join(f"{name}={answer}" for name, answer in facts_of(state, PACK).items())


class Stands(InFolder):
    """Where the PC stands, as the program takes it."""

    def opened(self, *words):
        self.run_here("open", self.folder / "desk", "--quiet", "--fact", "family=nt", *words)
        return self.folder / "desk"

    def test_screens_come_one_after_the_other_and_what_is_replaced_is_said(self):
        desk = self.opened()
        shown = self.run_here("saw", desk, "blue screen, then the desktop works again")
        self.assertIn("before that", shown)
        state = load_case(desk).state
        self.assertEqual((state.screens, state.seen["after-logo"]), (("stop-screen",), "desktop"))
        shown = self.run_here("saw", desk, "after-logo=spinner")
        self.assertIn("desktop came first and is kept", shown)
        self.assertEqual(load_case(desk).state.screens, ("stop-screen", "desktop"))
        self.run_here("saw", desk, "heat=hot")
        self.assertIn("it was hot, now no", self.run_here("saw", desk, "heat=no"))
        self.run_here("saw", desk, "after-logo=unknown")
        self.assertEqual(load_case(desk).state.screens, ())
        for _ in range(2):
            self.run_here("saw", desk, "code=0x7b")
        self.assertEqual(len(load_case(desk).state.codes), 1)
        self.assertNotIn("crash records", self.run_here("causes", desk))
        self.run_here("saw", desk, "after-logo=purple", expect=2)
        shown = self.run_here("saw", desk, "after-logo=desktop", "logo=never")
        self.assertIn("do not go together", shown)

    def test_whoever_stands_at_the_repair_screen_is_there_and_has_power(self):
        state = said("it says automatic repair could not repair the pc", form="desktop")
        self.assertFalse(POWER & {sign.id for sign in open_questions(state, PACK)})
        plan = plan_of(state, PACK)
        self.assertEqual(plan.visits[0].place, Place.RECOVERY)
        self.assertLessEqual(plan.visits[0].minutes, 4)
        steps = [step.id for visit in plan.visits for step in visit.steps]
        self.assertNotIn("repair-startup", steps)
        self.assertFalse({"swap-power", "change-screen", "clean-cooling"} & set(steps[:8]))

    def test_what_builds_on_a_step_that_failed_waits_and_says_so(self):
        state = said("status 0xc000000f", rescue_stick="no")
        for report in ("not-mended", "not-run"):
            attempt = Tried(at=AT, step="find-system-volume", report=ReportKind(report))
            plan = plan_of(
                CaseState(facts=state.facts, seen=state.seen, codes=state.codes, tried=(attempt,)),
                PACK,
            )
            planned = {step.id for visit in plan.visits for step in visit.steps}
            self.assertNotIn("rebuild-boot-settings", planned)
            told = {row.id: row.says for row in plan.blocked}
            self.assertIn("find-system-volume", told["rebuild-boot-settings"])

    def test_a_stick_for_later_is_made_beside_the_first_visit(self):
        facts = {"family": "linux", "second-pc": "yes", "network": "yes", "release-known": "yes"}
        for stick in ("no", "yes"):
            known = {**facts, "rescue-stick": stick, "bench": "no"}
            state = CaseState(facts=known, seen={"after-logo": "status-screen"})
            first, *later = plan_of(state, PACK).visits
            planned = {step.id for visit in later for step in visit.steps}
            self.assertEqual("make-rescue-stick" in planned, stick == "no", planned)
            self.assertEqual(len(first.beside), stick == "no")
            self.assertFalse([visit.beside for visit in later if visit.beside])

    def test_minutes_grow_with_the_drive(self):
        step = PACK.steps["image-drive"]
        self.assertLess(step.takes_on(64 * 10**9), step.takes_on(512 * 10**9))
        self.assertLess(step.takes_on(0), step.takes_on(2 * 10**12))
        by_kind = [step.takes_on(0, kind) for kind in ("solid", None, "turning")]
        self.assertEqual(by_kind, sorted(set(by_kind)))

    def test_tools_reports_in_words(self):
        rows = (
            ("compare-system-files", "it found no violations", "nothing-wrong"),
            (
                "compare-system-files",
                "found corrupt files but was unable to fix some of them",
                "not-mended",
            ),
            ("check-file-system", "made corrections to the file system", "mended"),
            ("rebuild-boot-settings", "total identified systems: 0", "not-mended"),
            ("copy-boot-files", "access is denied", "not-run"),
            ("check-file-system", "cannot find the drive", "not-run"),
            ("mend-file-store", "this stick does not fit the release", "not-run"),
            ("test-memory", "it found 3 errors", "found"),
            ("test-drive", "passed", "nothing-wrong"),
            ("repair-startup", "stuck at 20 percent since an hour", None),
            ("compare-system-files", "it found no damage to system files", "nothing-wrong"),
            ("compare-system-files", "nothing was repaired", "not-mended"),
            ("check-file-system", "the file system was not repaired", "not-mended"),
        )
        for step, text, report in rows:
            with self.subTest(text):
                row = tool_report(PACK, text)
                self.assertEqual(report_of(PACK.steps[step], row), report)
        for text in ("the check of the disc did not take long", "I typed the recovery key"):
            self.assertIsNone(tool_report(PACK, text), text)
        desk = self.opened()
        self.run_here("tried", desk, "test-memory", "it found 3 errors")
        self.assertEqual(load_case(desk).state.tried[-1].report, "found")
        said = self.run_here("tried", desk, "test-drive", "at 20 percent since an hour", expect=2)
        self.assertIn("do not cut the power", said)
        self.run_here("tried", desk, "test-drive", "purple", expect=2)

    def test_what_does_not_go_with_this_pc_is_asked_back(self):
        desk = self.opened("--fact", "firmware=uefi", "--fact", "backup=no")
        rows = (
            ("write-boot-code", "firmware = bios"),
            ("check-file-system", "find-system-volume was not done"),
            ("reinstall-erasing", "nobody told of a copy"),
            ("reinstall-erasing", "should speak against dying hardware"),
        )
        for step, wanted in rows:
            kind = "mended" if PACK.steps[step].finds else "done"
            self.assertIn(wanted, self.run_here("tried", desk, step, kind))

    def test_a_fix_that_was_never_tried_closes_nothing(self):
        desk = self.opened()
        self.run_here("tried", desk, "restart-once", "done")
        self.run_here("started", desk, "yes")
        words = ("close", desk, "--cause", "x", "--fix")
        self.assertIn("was not tried", self.run_here(*words, "swap-power", expect=4))
        self.run_here(*words, "swap-power", "--elsewhere")


class LastWords(InFolder):
    """A plan never ends without saying what is left."""

    def test_calls_come_to_their_step_in_time_and_none_ends_in_silence(self):
        some = list(replays.replayed(PART))
        self.assertGreater(len(some), 6)
        self.assertNotIn("silent", {each.ended for each in some})
        late = [(each.name, each.cause) for each in some if not each.within]
        self.assertLessEqual(len(late), 1, late)

    def test_whatever_was_tried_the_last_resorts_stand_in_their_order(self):
        state = said("it restarts over and over")
        done = []
        for _ in range(40):
            attempts = tuple(Tried(at=AT, step=step, report=ReportKind.DONE) for step in done)
            now = CaseState(facts=state.facts, seen=state.seen, tried=attempts)
            plan = plan_of(now, PACK)
            self.assertEqual([row.id for row in plan.resorts][-1], "hand-over")
            order = [row for row in PACK.resorts if row in {each.id for each in plan.resorts}]
            self.assertEqual([row.id for row in plan.resorts], order)
            visits = plan.visits or (plan.dearer[0].visits if plan.dearer else ())
            if not visits:
                break
            done += [step.id for step in visits[0].steps]
        self.assertFalse(plan.visits)
        self.assertGreater(len(done), 25)

    def test_what_costs_more_than_handing_over_can_be_chosen(self):
        case = self.folder / "desk"
        self.run_here("open", case, "--quiet", "--fact", "family=darwin", "--fact", "bench=no")
        self.run_here("saw", case, "after-logo=message", "message-about=no-system")
        for _ in range(25):
            plan = plan_of(load_case(case).state, PACK)
            if not plan.visits:
                break
            for step in plan.visits[0].steps:
                kind = "nothing-wrong" if step.tests else "done"
                self.run_here("tried", case, step.id, kind)
            self.run_here("started", case, "no")
        shown = self.run_here("plan", case)
        self.assertIn("dearer than handing over", shown)
        self.assertIn("last resorts, in this order", shown)
        self.assertNotIn("Nothing of the pack", shown)
        dearer = plan_of(load_case(case).state, PACK).dearer[0].visits[0].steps[0].id
        chosen = plan_of(load_case(case).state, PACK).dearer[0].id
        answers = "\n".join(["skip"] * 6 + [chosen])
        shown = self.run_here("work", case, stdin=f"{answers}\n")
        self.assertIn(f"{dearer}  (", shown.partition(f"> {chosen}")[2])


if __name__ == "__main__":
    unittest.main()
