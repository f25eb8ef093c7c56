"""Every step has a card that somebody can follow; the shop's own words stand first."""

import unittest

import msgspec

from mending.knowledge import RELEASE, Card, base_pack, how_to, lacking_cards
from tests.support import InFolder

PACK = base_pack()


class Cards(unittest.TestCase):
    def test_every_step_has_three_parts_or_a_command_of_ours(self):
        self.assertEqual(lacking_cards(PACK), [])
        for step in PACK.steps.values():
            with self.subTest(step.id):
                card = how_to(PACK, step)
                self.assertTrue(len(card.do) >= 3 or card.command)
                self.assertTrue(card.tells and card.stands and card.then)
                self.assertLess(card.earliest, card.latest)
                for says in (*card.do, *card.asks, card.keep, card.refused):
                    if "mending " not in says:
                        self.assertNotRegex(says, r"[{}`]|--\w|/[a-z]:|[a-z]\.exe")

    def test_a_card_of_another_family_or_release_is_left_out(self):
        card = Card(step="unplug-extras", family="nt", release="7", text="ours", own=True)
        pack = msgspec.structs.replace(PACK, cards=(card, *PACK.cards))
        for known, shown in (
            ({}, True),
            ({"family": "nt"}, True),
            ({"family": "linux"}, False),
            ({"family": "nt", RELEASE: "Isle 7 office"}, True),
            ({"family": "nt", RELEASE: "Isle 8"}, False),
        ):
            with self.subTest(known):
                own = how_to(pack, pack.steps["unplug-extras"], known).own
                self.assertEqual([each.lines for each in own], [("ours",)] * shown)

    def test_every_cause_and_step_can_be_told_to_the_user_in_the_past(self):
        for cause in PACK.causes.values():
            self.assertTrue(cause.was and not cause.was.startswith(cause.says), cause.id)
        for step in PACK.steps.values():
            self.assertTrue(step.done, step.id)


class OwnWords(InFolder):
    def setUp(self):
        super().setUp()
        self.env["XDG_CONFIG_HOME"] = str(self.folder / "config")
        self.file = self.folder / "config" / "mending" / "own" / "cards.toml"
        self.env["HOME"] = str(self.folder)

    def test_lines_are_added_shown_first_and_filled_from_the_case(self):
        desk = self.folder / "desk"
        self.run_here("open", desk, "--quiet", "--fact", "family=nt")
        step = self.json_here("plan", desk)["visits"][0]["steps"][0]["id"]
        self.run_here("card", step, "--line", "isle-boot {system-letter}")
        self.run_here("card", step, "--line", "if [ {{ ]", "--family", "nt")
        shown = self.run_here("help", step)
        self.assertIn("isle-boot <the letter of the system volume>", shown)
        self.assertLess(shown.index("isle-boot"), shown.index("\n  1  "))
        self.assertIn("if [ { ]", shown)
        listing = self.folder / "listing"
        listing.write_text("D: 237 GB NTFS folders Users, Program Files\nE: 100 MB FAT32\n")
        self.run_here("saw", desk, "--volumes", listing)
        cards = self.json_here("plan", desk, "--how", "--all")["cards"]
        card = next(card for card in cards if card["step"] == step)
        self.assertEqual(card["own"][0]["lines"], ["isle-boot D:"])
        self.assertEqual(card["letters"], {"system": "D:", "boot": "E:"})
        packs = self.json_here("packs", self.folder)
        self.assertEqual(packs["packs"][-1]["rows"], {"cards": 2})
        self.assertNotIn(step, packs["without_own"])

    def test_what_does_not_fit_is_refused_and_nothing_is_lost(self):
        self.run_here("card", "unplug-extras", "--line", "the till's reader, too")
        before = self.file.read_bytes()
        for words, says in (
            (("unplug-extras", "--line", "{nonsense}"), "no place 'nonsense'"),
            (("unplug-extras", "--line", "{case"), "not closed"),
            (("unplug-extras", "--line", " "), "nothing to add"),
            (("unplug-extras", "--line", "x", "--family", "os"), "no family"),
            (("no-such-step", "--line", "x"), "no step"),
        ):
            with self.subTest(words):
                self.assertIn(says, self.run_here("card", *words, expect=2))
                self.assertEqual(self.file.read_bytes(), before)

    def test_a_pack_that_is_wrong_is_named_in_a_sentence(self):
        own, other = self.file, self.folder / "elsewhere.toml"
        own.parent.mkdir(parents=True)
        other.write_text('[[card]]\nstep = "unplug-extras"\ntext = "x"\n')
        row = '[[card]]\nstep = "{}"\ntext = """{}"""\n'
        for text, says in (
            (row.format("no-such-step", "x"), "no step 'no-such-step'"),
            (row.format("unplug-extras", "{case"), "not closed"),
            (row.format("unplug-extras", "a\\u001b[31mred"), "cannot be printed"),
            (row.format("unplug-extras", "a" * 30_000), "more than 20000 characters"),
            (row.format("unplug-extras", "a" * (10 << 20)), "more than 4 MiB"),
            ("[[card]\n", "is not TOML"),
            ('[[card]]\nstep = "unplug-extras"\ncolour = "red"\n', "colour"),
            (None, "is a link"),
        ):
            with self.subTest(says):
                own.unlink(missing_ok=True)
                own.symlink_to(other) if text is None else own.write_text(text)
                shown = self.run_here("packs", self.folder, expect=3)
                self.assertIn(says, " ".join(shown.split()))
                self.assertNotIn("\x1b", shown)

    def test_the_tab_key_completes_steps_and_help_shows_how(self):
        env = {"_MENDING_COMPLETE": "bash_complete", "COMP_WORDS": "mending help reseat-m"}
        self.env |= {**env, "COMP_CWORD": "2"}
        self.assertIn("reseat-memory", self.run_here())


class OldNames(InFolder):
    def test_keys_of_older_packs_are_read_and_said(self):
        self.env["XDG_CONFIG_HOME"] = str(self.folder / "config")
        settings = self.folder / "config" / "mending" / "config.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text(f'packs = ["{self.folder}"]\n')
        row = '[[step]]\nid = "rinse"\ndoes = "Rinse it."\nhow = "With water."\nminutes = 2\n'
        row += 'place = "bench"\nfixes = { battery-worn = "seldom" }\n'
        renamed = "steps.toml: the key tells is called worked_if now"
        for keys, status, said in (
            ('worked_if = "It shines."', 0, ""),
            ('tells = "It shines."', 0, renamed),
            ('tells = "It shines."\nworked_if = "It shines."', 3, "tells"),
        ):
            (self.folder / "steps.toml").write_text(f"{row}{keys}\n")
            with self.subTest(keys):
                shown = " ".join(self.run_here("packs", self.folder, expect=status).split())
                self.assertIn(said, shown)
                self.assertEqual(renamed in shown, said is renamed)


class Reports(InFolder):
    def test_the_users_page_tells_what_was_done_and_a_page_of_steps_how(self):
        desk = self.folder / "desk"
        self.run_here("open", desk, "--quiet", "--fact", "family=nt", "--screen", "a blinking line")
        self.run_here("tried", desk, "reseat-drive", "done")
        page = self.run_here("report", desk, "--for", "user")
        self.assertIn("The drive was unplugged, cleaned and plugged in again.", page)
        steps = self.run_here("report", desk, "--steps")
        first = self.json_here("plan", desk)["visits"][0]["steps"][0]["id"]
        self.assertIn(f"## How: {first}", steps)
        self.assertIn(f"How: {first}", self.run_here("report", desk))


if __name__ == "__main__":
    unittest.main()
