"""Colours: legible on the ground they are meant for, and chosen in the settings."""

import os
import unittest

import pexpect
from rich.color import Color
from rich.style import Style

from mending.cli.show.tables import NONE, STYLES
from mending.repair.boot import own_code
from mending.workshop import make_sample, samples
from tests.support import PROGRAM, InFolder

GROUNDS = {
    "both": ((0, 0, 0), (255, 255, 255)),
    "dark": ((0, 0, 0), (40, 44, 52)),
    "light": ((255, 255, 255), (238, 232, 213)),
}
LEAST = {"both": 4.0, "dark": 6.0, "light": 4.5}


def luminance(triplet):
    """Relative luminance of sRGB (Web Content Accessibility Guidelines 2.2)."""
    parts = [part / 255 for part in triplet]
    linear = [
        part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts
    ]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one, other):
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


class Colours(InFolder):
    def test_every_style_is_legible_on_its_grounds(self):
        for ground, papers in GROUNDS.items():
            for name, look in STYLES[ground].items():
                colour = Style.parse(look).color or Color.default()
                for paper in papers:
                    found = contrast(colour.get_truecolor(), paper)
                    self.assertGreaterEqual(found, LEAST[ground], (ground, name, paper))

    def test_the_settings_choose_them_and_every_ground_has_all_styles(self):
        names = set(STYLES[NONE])
        self.assertTrue(all(set(styles) == names for styles in STYLES.values()))
        sample = next(each for each in samples(own_code()) if each.name == "quay-desk-2")
        image, home = make_sample(sample, self.folder), self.folder / "home"
        (home / "mending").mkdir(parents=True)
        more = {"XDG_CONFIG_HOME": str(home), "TERM": "xterm-256color", "COLORTERM": ""}
        for ground, code in (
            ("both", "38;5;161"),
            ("dark", "38;5;210"),
            ("light", "38;5;124"),
            ("none", None),
        ):
            (home / "mending" / "config.toml").write_text(f'colours = "{ground}"\n')
            words = ["trace", str(image)]
            kept = {name: value for name, value in os.environ.items() if name != "NO_COLOR"}
            shown = pexpect.run(
                f"{PROGRAM} {' '.join(words)}", env={**kept, **more}, timeout=60
            ).decode()
            self.assertIn("boot record", shown)
            self.assertEqual("38;5;" in shown, code is not None, ground)
            self.assertIn(code or "stops at", shown)
            few = {**kept, **more, "TERM": "xterm"}
            shown = pexpect.run(f"{PROGRAM} trace {image}", env=few, timeout=60).decode()
            self.assertEqual("\x1b[1;31m" in shown, code is not None, ground)
            self.assertNotIn("\x1b[32m", shown)
        (home / "mending" / "config.toml").write_text('colours = "pink"\n')
        shown = pexpect.run(f"{PROGRAM} config", env={**kept, **more}, timeout=60).decode()
        self.assertIn("line 1, key colours", " ".join(shown.split()))


if __name__ == "__main__":
    unittest.main()
