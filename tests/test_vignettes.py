"""Forty PCs: what stands in the first two visits, what must not, and what is asked next."""

import unittest

from mending.case import causes_of, plan_of, question_of
from mending.case.events import Tried
from mending.case.state import CaseState
from mending.case.work import heard
from mending.knowledge import ReportKind, WhyNotRun, base_codes, base_pack
from mending.reason import Understanding
from tests.vignettes import ERASE, NT, QUESTIONS, ROWS, SPOKEN

PACK = base_pack()


class Vignettes(unittest.TestCase):
    def test_the_first_visits_are_what_a_good_technician_would_do(self):
        self.assertGreaterEqual(len(ROWS), 40)
        for says, facts, seen, sensible, wrong, _ in ROWS:
            with self.subTest(says):
                plan = plan_of(CaseState(facts=facts, seen=seen), PACK)
                first = {step.id for visit in plan.visits[:2] for step in visit.steps}
                self.assertTrue(first)
                self.assertTrue(first & set(sensible) or not sensible, first)
                self.assertFalse(first & set(wrong))

    def test_what_a_caller_says_leads_to_the_cause_and_to_sensible_steps(self):
        understanding = Understanding(PACK, base_codes())
        for words, facts, causes, sensible in SPOKEN:
            with self.subTest(words):
                event = heard(understanding.of(words), "2026-11-29T09:00:00+00:00")
                state = CaseState(
                    facts={**facts, **event.facts},
                    seen=event.signs,
                    heard=frozenset(event.signs),
                    codes=event.codes,
                )
                ranked = [cause.id for cause in causes_of(state, PACK).causes[:3]]
                self.assertTrue(set(causes) & set(ranked), ranked)
                plan = plan_of(state, PACK)
                first = {step.id for visit in plan.visits[:2] for step in visit.steps}
                self.assertTrue(first & set(sensible), first)
                self.assertFalse(first & set(ERASE), first)

    def test_being_refused_access_leads_on_and_not_in_circles(self):
        facts = {**NT, "recovery-opens": "yes"}
        seen = {"after-logo": "status-screen", "message-about": "settings"}
        refused: list[Tried] = []
        for _ in range(3):
            state = CaseState(facts=facts, seen=seen, tried=tuple(refused))
            steps = [step.id for visit in plan_of(state, PACK).visits for step in visit.steps]
            self.assertTrue(steps)
            self.assertFalse(set(steps) & {attempt.step for attempt in refused})
            self.assertEqual(
                causes_of(state, PACK), causes_of(CaseState(facts=facts, seen=seen), PACK)
            )
            refused.append(
                Tried(at="", step=steps[0], report=ReportKind.NOT_RUN, why=WhyNotRun.REFUSED)
            )

    def test_the_next_question_is_one_that_a_good_technician_would_ask(self):
        rows = [(says, facts, seen, asked) for says, facts, seen, _, _, asked in ROWS if asked]
        for says, facts, seen, asked in rows + QUESTIONS:
            with self.subTest(says):
                self.assertIn(question_of(CaseState(facts=facts, seen=seen), PACK).sign, asked)


if __name__ == "__main__":
    unittest.main()
