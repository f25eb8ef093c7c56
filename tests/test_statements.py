"""What callers say is understood as answers, codes and facts, and weighs as it should."""

import json
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.case import case_result, load_case
from mending.knowledge import SOMETHING_ELSE, base_codes, base_pack
from mending.reason import Evidence, Understanding, answer_chances, believe, excluded
from tests.support import InFolder, run

PACK = base_pack()
UNDERSTANDING = Understanding(PACK, base_codes())
RIGHT, WRONG = 0.86, 0.02
"""The least share of the sentences that are understood rightly, and the most wrongly."""


def labelled(text):
    rows = [row for row in text.splitlines() if not row.startswith("#")]
    return [[part.strip() for part in f"{row}||".split("|")[:3]] for row in rows]


SENTENCES = labelled(Path(__file__).with_name("sentences.txt").read_text())


def answers(text):
    statement = UNDERSTANDING.of(text).sure
    return {answer.question: answer.answer for answer in (*statement.signs, *statement.facts)}


class Sentences(unittest.TestCase):
    def test_what_callers_say_is_understood(self):
        right = wrong = 0
        for text, must, may in SENTENCES:
            got = {f"{name}={answer}" for name, answer in answers(text).items()}
            beyond = got - set(must.split()) - set(may.split())
            right += set(must.split()) <= got and not beyond
            wrong += bool(beyond)
        self.assertGreaterEqual(right / len(SENTENCES), RIGHT)
        self.assertLessEqual(wrong / len(SENTENCES), WRONG)

    def test_what_was_misheard_once_is_right(self):
        text = Path(__file__).with_name("sentences_more.txt").read_text()
        for said, must, may in labelled(text.split("# Once misheard")[1]):
            with self.subTest(said):
                got = {f"{name}={answer}" for name, answer in answers(said).items()}
                self.assertLessEqual(set(must.split()), got)
                self.assertLessEqual(got, {*must.split(), *may.split()})

    def test_a_denial_reaches_no_farther_than_the_next_joint(self):
        self.assertEqual(answers("no beeps and the fans run")["fans-lights"], "normal")
        self.assertEqual(answers("it is not hot")["heat"], "no")
        self.assertNotIn("after-logo", answers("there is no blue screen"))
        self.assertEqual(answers("the logo never appears")["logo"], "never")

    def test_a_mistyped_word_is_taken_for_the_one_that_was_meant(self):
        self.assertEqual(answers("the scrren is black")["after-logo"], "nothing")

    def test_a_doubt_is_one_of_its_own_clause(self):
        for text, taken in (
            ("the loading circle turns for ever, I do not know why", {"after-logo": "spinner"}),
            (
                "the spinner keeps going, maybe since the update",
                {"after-logo": "spinner"},
            ),
            ("the spinner keeps going, I think", {}),
            ("maybe the spinner keeps going", {}),
        ):
            with self.subTest(text):
                self.assertEqual(answers(text), taken)

    def test_what_was_done_without_success_is_a_report_of_that_step(self):
        for text, tried, heard in (
            ("we swapped the memory, no difference", "change-memory: done, did not help", {}),
            ("I reset the bios. no change", "restore-setup: done, did not help", {}),
            ("the memory test found no errors", "test-memory: nothing-wrong", {}),
            (
                "we took out one memory bar, still beeps three times",
                "reseat-memory: done, did not help",
                {"beeps": "pattern"},
            ),
            ("I changed the memory last week", "", {"recent-change": "memory"}),
            ("they replaced the disk. it is still under warranty", "", None),
        ):
            with self.subTest(text):
                statement = UNDERSTANDING.of(text)
                steps = [row.says for row in statement.readings if ": " in row.says]
                self.assertTrue(heard is None or statement.left == ())
                self.assertEqual(steps, [tried] if tried else [])
                self.assertIn(heard, (None, answers(text)))

    def test_advice_on_a_screen_is_no_fact_and_a_denial_may_stand_behind(self):
        self.assertNotIn("backup", answers("it says I should make a backup"))
        self.assertNotIn("after-logo", answers("the blue screen never appears"))
        self.assertEqual(answers("the desktop never comes"), {"desktop-opens": "no"})

    def test_words_that_mean_something_else_beside_others_are_asked_about(self):
        self.assertNotIn("fans-lights", answers("it is dead slow"))
        self.assertEqual(answers("it is dead"), {"fans-lights": "none"})

    def test_what_somebody_is_not_sure_of_is_not_taken_without_asking(self):
        statement = UNDERSTANDING.of("maybe it beeps")
        self.assertEqual([answer.question for answer in statement.signs], ["beeps"])
        self.assertEqual(statement.sure.signs, ())

    def test_not_to_know_is_an_answer_where_that_is_asked(self):
        self.assertEqual(answers("I don't know the key"), {"recovery-key": "no"})

    def test_a_word_alone_goes_to_the_phrase_that_holds_it(self):
        heard = answers("sometimes the setup does not show the drive")
        self.assertEqual(heard, {"setup-sees-drive": "sometimes"})

    def test_what_is_not_understood_is_said(self):
        statement = UNDERSTANDING.of("black screen, the moon is full")
        self.assertEqual(statement.left, ("the moon is full",))

    def test_codes_and_messages_in_a_sentence_are_found_and_say_what_follows(self):
        statement = UNDERSTANDING.of("it stops with 0x7b")
        self.assertEqual([code.code for code in statement.codes], ["0x0000007B"])
        self.assertEqual(answers("it stops with 0x7b")["after-logo"], "stop-screen")
        self.assertEqual(answers("it says: no bootable device")["message-about"], "no-device")

    @settings(max_examples=300, deadline=None)
    @given(st.text(max_size=200))
    def test_any_text_is_understood_or_said_to_be_not(self, text):
        statement = UNDERSTANDING.of(text)
        for answer in statement.signs:
            self.assertIn(answer.answer, PACK.signs[answer.question].answers)


class WhatCannotBe(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.data())
    def test_an_answer_never_raises_a_cause_that_it_excludes(self, data):
        names = data.draw(st.lists(st.sampled_from(sorted(PACK.signs)), min_size=1, unique=True))
        seen = {
            name: data.draw(st.sampled_from(sorted(PACK.signs[name].answers))) for name in names
        }
        (name, answer), before = next(iter(seen.items())), dict(list(seen.items())[1:])
        heard = frozenset(data.draw(st.sets(st.sampled_from(names))))
        # Beliefs after one answer more, pieces of one group apart: these share what they tell.
        if any(PACK.signs[name].group == PACK.signs[other].group != "" for other in before):
            return
        old = believe(PACK, Evidence(seen=before, heard=heard)).beliefs
        new = believe(PACK, Evidence(seen=seen, heard=heard)).beliefs
        for cause in PACK.causes.values():
            if excluded(cause, PACK.signs[name], answer):
                self.assertLessEqual(new[cause.id], old[cause.id] + 1e-12, (cause.id, seen))

    def test_chances_of_the_answers_to_a_sign_are_chances(self):
        for sign in PACK.signs.values():
            for cause in (None, *PACK.causes.values()):
                total = sum(answer_chances(PACK, cause, sign).values())
                self.assertTrue(0.75 < total < 1.02, (sign.id, cause and cause.id, total))

    def test_no_life_leaves_nothing_to_drivers_and_updates(self):
        beliefs = believe(PACK, Evidence(seen={"fans-lights": "none"})).beliefs
        software = sum(
            chance
            for cause, chance in beliefs.items()
            if cause != SOMETHING_ELSE and PACK.causes[cause].phase.rank > 3
        )
        self.assertLess(software, 0.05)


class Told(InFolder):
    def setUp(self):
        super().setUp()
        self.desk = self.folder / "desk"

    def test_words_codes_and_answers_go_in_together_and_can_be_taken_back(self):
        run(
            "open",
            self.desk,
            "--quiet",
            "--screen",
            "black, small blinking line",
            "--changed",
            "update",
        )
        run("saw", self.desk, "beeps three times", "code=INACESSIBLE_BOOT_DEVICE", "form=laptop")
        case = case_result(load_case(self.desk), PACK)
        self.assertEqual(case.seen["after-logo"], "cursor")
        self.assertEqual(case.seen["recent-change"], "update")
        self.assertEqual(case.said[1].text, "update")
        self.assertEqual((case.seen["beeps"], case.facts["form"]), ("pattern", "laptop"))
        self.assertEqual(case.codes, ("0x0000007B INACCESSIBLE_BOOT_DEVICE",))
        causes = json.loads(run("causes", self.desk, "--json"))
        told = [row["evidence"] for cause in causes["causes"] for row in cause["for"]]
        self.assertTrue(any("INACCESSIBLE_BOOT_DEVICE" in text for text in told))
        run("saw", self.desk, "after-logo=unknown")
        self.assertNotIn("after-logo", load_case(self.desk).state.seen)

    def test_signs_are_listed_by_what_they_are_about_found_by_a_word_and_by_what_a_case_lacks(self):
        everything = run("signs")
        for sign in PACK.signs.values():
            self.assertTrue(sign.about, sign.id)
            self.assertIn(sign.about.upper(), everything)
        self.assertEqual([*json.loads(run("signs", "beep", "--json"))["signs"]], ["beeps"])
        self.assertIn("No sign or fact", run("signs", "qqq", expect=2))
        run("open", self.desk, "--quiet")
        run("saw", self.desk, "fans-lights=none")
        asked = json.loads(run("signs", self.desk, "--json"))["signs"]
        self.assertIn("other-socket", asked)
        self.assertNotIn("fans-lights", asked)
        self.assertNotIn("sign-in", asked)

    def test_a_chosen_answer_is_not_changed_by_words(self):
        run("open", self.desk, "--quiet")
        run("saw", self.desk, "after-logo=message")
        run("saw", self.desk, "the screen is black")
        self.assertEqual(load_case(self.desk).state.seen["after-logo"], "message")

    def test_answers_that_cannot_both_be_right_are_named_when_they_are_entered(self):
        run("open", self.desk, "--quiet")
        run("saw", self.desk, "fans-lights=none")
        shown = run("saw", self.desk, "sign-in=works")
        self.assertIn("cannot both be right", shown)
        self.assertIn("fans-lights=none", shown)
        self.assertIn("sign-in=works", shown)

    def test_odd_input_is_refused_in_one_sentence_and_records_nothing(self):
        run("open", self.desk, "--quiet")
        for words, says in (
            ("", "Nothing to record"),
            ("code=", "no answer behind"),
            ("beeps= ", "no answer behind"),
            ("beeps=pattern=x", "is no answer to beeps"),
        ):
            self.assertIn(says, run("saw", self.desk, words, expect=2))
        run("saw", self.desk, "beeps=pattern", "form=boat", expect=2)
        self.assertEqual(load_case(self.desk).state.seen, {})
        run("saw", self.desk, "logo = never")
        self.assertEqual(load_case(self.desk).state.seen, {"logo": "never"})

    def test_one_plain_word_is_no_code_and_a_long_text_is_shown_short(self):
        for word in ("dead", "a", "be", "7"):
            self.assertEqual(UNDERSTANDING.of(word).codes, ())
        run("open", self.desk, "--quiet")
        shown = run("saw", self.desk, "no " * 5000, "--quiet")
        self.assertLess(len(shown), 3000)

    def test_a_code_that_is_not_known_is_said_and_nothing_is_recorded(self):
        run("open", self.desk, "--quiet")
        refused = run("saw", self.desk, "beeps=pattern", "code=qqq", expect=2)
        self.assertIn("mending code TEXT", refused)
        self.assertEqual(load_case(self.desk).state.seen, {})

    def test_the_text_of_a_screen_is_evidence_as_the_same_code_from_a_dump_is(self):
        run("open", self.desk, "--quiet")
        text = "Your PC ran into a problem and needs to restart.\nSYSTEM_SERVICE_EXCEPTION\n"
        (self.folder / "screen.txt").write_text(text)
        run("add", self.desk, self.folder / "screen.txt")
        state = load_case(self.desk).state
        self.assertEqual(state.seen["after-logo"], "stop-screen")
        self.assertIn("SYSTEM_SERVICE_EXCEPTION", [code.name for code in state.codes])
        evidence = state.as_evidence()
        self.assertIn("driver-crashes", {name for code in evidence.codes for name in code.causes})
        self.assertEqual(evidence.clues, ())

    def test_several_different_codes_point_to_memory(self):
        run("open", self.desk, "--quiet")
        run("saw", self.desk, "code=0x1a", "code=0x3b", "code=0x50")
        clues = {clue.id for clue in load_case(self.desk).state.as_evidence().clues}
        self.assertIn("scattered-codes", clues)
