"""Forty PCs: what stands in the first two visits, what must not, and what is asked next."""

import unittest

from mending.case import plan_of, question_of
from mending.case.state import CaseState
from mending.knowledge import base_pack
from tests.vignettes import QUESTIONS, ROWS

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

    def test_the_next_question_is_one_that_a_good_technician_would_ask(self):
        rows = [(says, facts, seen, asked) for says, facts, seen, _, _, asked in ROWS if asked]
        for says, facts, seen, asked in rows + QUESTIONS:
            with self.subTest(says):
                self.assertIn(question_of(CaseState(facts=facts, seen=seen), PACK).sign, asked)


if __name__ == "__main__":
    unittest.main()
