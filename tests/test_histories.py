"""Histories with known truth: how starts ended, loops, onset, suspects, patterns, restore points,
clues in a case.
"""

import itertools
import json
import unittest

from scipy import stats

from mending.crash.judge import analyse, clues_in, exact_p, find_onset, holm
from mending.crash.read import Reader
from mending.knowledge import base_codes, base_events, base_pack
from mending.model import plain_time, read_time
from mending.source import MemorySource
from mending.workshop import as_journal, as_text, as_xml, history, slip_desk_records
from tests.support import InFolder

MORNING = 1_795_132_800.0


def told(*files, modified=1_800_000_000.0):
    reader = Reader(base_codes(), base_events())
    reads = [
        read for data in files for read in reader.read("records", MemorySource(data), modified)
    ]
    return analyse("pc", reads, 0, base_codes())


def _xml_event(at, by, number, values):
    named = "".join(f"<Data Name={json.dumps(key)}>{value}</Data>" for key, value in values.items())
    return (
        f'<Event><System><Provider Name="Ferry-{by}"/><EventID>{number}</EventID>'
        f'<TimeCreated SystemTime="{plain_time(MORNING + 60 * at)}"/></System>'
        f"<EventData>{named}</EventData></Event>"
    )


def xml(*rows):
    """Events at minutes of one day: `(minutes, provider, number, values)`."""
    events = "".join(_xml_event(*row) for row in rows)
    return f"<Events>{events}</Events>".encode()


def run(start, end, *middle, clean=True):
    """A start, what happens, and a clean end."""
    first = [
        (start, "Kernel-General", 12, {}),
        (start + 0.3, "EventLog", 6005, {}),
        (start + 1, "Logon", 7001, {}),
    ]
    return [
        *first,
        *middle,
        *([(end, "EventLog", 6006, {})] if clean else [(end, "Time-Service", 37, {})]),
    ]


class Runs(unittest.TestCase):
    def test_how_starts_ended(self):
        crash = (100.4, "Kernel-Power", 41, {"BugcheckCode": "209"})
        rows = [
            *run(10, 60),
            *run(70, 95, clean=False),
            *run(100, 130, crash),
            *run(140, 150, clean=False),
            *run(160, 170, (160.4, "EventLog", 6008, {})),
        ]
        found = told(xml(*rows))
        self.assertEqual(
            [start.ended for start in found.starts], ["clean", "crash", "clean", "unclean", "clean"]
        )
        self.assertEqual([start.minutes for start in found.starts], [50, 25, 30, 10, 10])
        self.assertEqual(
            [(crash.kind, crash.code) for crash in found.crashes],
            [("stop-code", "0xd1"), ("unclean-stop", "")],
        )
        self.assertEqual(found.crashes[0].name, "DRIVER_IRQL_NOT_LESS_OR_EQUAL")
        self.assertTrue(all(start.signed_in for start in found.starts))

    def test_without_any_clean_end_nothing_is_called_unclean(self):
        rows = [
            (10, "Kernel-General", 12, {}),
            (20, "Kernel-General", 12, {}),
            (40, "Kernel-General", 12, {}),
        ]
        found = told(xml(*rows))
        self.assertEqual([start.ended for start in found.starts], ["unknown", "unknown", "running"])
        self.assertIsNone(found.onset)

    def test_who_still_writes_long_after_a_stop_did_not_stop(self):
        rows = [*run(10, 60), (90, "Time-Service", 37, {}), *run(100, 130), *run(140, 160)]
        self.assertEqual(
            [start.ended for start in told(xml(*rows)).starts], ["unclean", "clean", "clean"]
        )

    def test_sleep_is_no_running_time(self):
        slept = [(30, "Kernel-Power", 42, {}), (90, "Kernel-Power", 107, {})]
        self.assertEqual(told(xml(*run(10, 100, *slept))).starts[0].minutes, 30)

    def test_restarts_of_an_installation_are_no_loop(self):
        restarts = [row for at in range(0, 40, 8) for row in run(at, at + 5)]
        self.assertEqual(told(xml(*restarts)).loops, ())
        failing = [(at, "Kernel-General", 12, {}) for at in range(100, 112, 2)]
        (loop,) = told(xml(*restarts, *failing)).loops
        self.assertEqual(
            (loop.starts, loop.gap_seconds, loop.spread, loop.regular), (6, 120.0, 0.0, True)
        )
        uneven = [(at, "Kernel-General", 12, {}) for at in (100, 101, 106, 107.5, 115)]
        self.assertFalse(told(xml(*restarts, *uneven)).loops[0].regular)

    def test_a_failure_within_minutes_of_waking_up(self):
        rows = [row for day in range(6) for row in run(day * 1440 + 10, day * 1440 + 300)]
        for day in range(6, 9):
            at = day * 1440
            woke = [(at + 60, "Kernel-Power", 42, {}), (at + 200, "Kernel-Power", 107, {})]
            rows += [*run(at, at + 203, *woke, clean=False), *run(at + 210, at + 400)]
        self.assertIn("after-sleep", [pattern.id for pattern in told(xml(*rows)).patterns])


class Figures(unittest.TestCase):
    def test_exact_chances_agree_with_counting_all_ways(self):
        for inside, failures, share in ((3, 4, 0.25), (5, 5, 0.5), (2, 9, 0.1)):
            ways = sum(
                share ** sum(row) * (1 - share) ** (failures - sum(row))
                for row in itertools.product((0, 1), repeat=failures)
                if sum(row) >= inside
            )
            self.assertAlmostEqual(exact_p(inside, failures, share), ways)
            self.assertAlmostEqual(
                stats.binomtest(inside, failures, share, alternative="greater").pvalue, ways
            )

    def test_correction_for_many_agrees_with_its_definition(self):
        values = [0.01, 0.04, 0.03, 0.5]
        self.assertEqual([round(clue, 6) for clue in holm(values)], [0.04, 0.09, 0.09, 0.5])
        self.assertAlmostEqual(holm([0.02])[0], stats.false_discovery_control([0.02])[0])

    def test_the_onset_of_even_failures_is_not_sure_and_that_of_a_burst_is(self):
        even = find_onset([float(at) for at in range(1000, 100_000, 5000)], 100_000.0)
        burst = find_onset([80_000.0 + at for at in range(0, 20_000, 1000)], 100_000.0)
        self.assertLess(even.evidence, 3)
        self.assertGreater(burst.evidence, 1000)
        self.assertTrue(burst.start < 80_000 <= burst.end, burst)


class Histories(InFolder):
    def test_truth_is_found_in_every_form(self):
        held = first = guilty = wrong = 0
        cases = [
            (kind, seed)
            for seed in range(2)
            for kind in ("driver", "update", "plugged", "worn", "irregular-loop")
        ]
        for number, (kind, seed) in enumerate(cases):
            story = history(kind, 500 + seed)
            form = (as_xml, as_journal, as_text)[number % 3]
            found = told(form(story), modified=story.entries[-1].at)
            start, end = (read_time(clue)[0] for clue in (found.onset.from_, found.onset.to))
            held += start - 1 <= story.onset <= end + 1
            name = {"plugged": "plugged in"}.get(
                kind, story.guilty.removesuffix(".sys").lower().replace(" ", "-")
            )
            if story.guilty:
                guilty += 1
                first += name in found.suspects[0].change.lower().replace(" ", "-").replace(
                    "plugged-in", "plugged in"
                )
            else:
                wrong += any(suspect.blamed for suspect in found.suspects)
            self.assertEqual(bool(found.loops), kind == "irregular-loop")
        self.assertGreaterEqual(held, len(cases) - 1)
        self.assertGreaterEqual(first, guilty - 2)
        self.assertLessEqual(wrong, 1)

    def test_loops_patterns_and_their_clues(self):
        rows = (
            (told(as_xml(history("regular-loop", 1))), "loop-regular"),
            (
                told(as_journal(history("irregular-loop", 1)), modified=1_800_000_000.0),
                "loop-irregular",
            ),
            (told(as_xml(history("plugged", 3))), "fails-when-plugged-in"),
            (told(as_xml(history("driver", 1))), "same-code"),
        )
        for found, clue in rows:
            self.assertIn(clue, [clue.id for clue in clues_in(found)])
        memory = [told(as_xml(history("memory", seed))) for seed in range(3)]
        self.assertTrue(
            any("scattered-codes" in [clue.id for clue in clues_in(found)] for found in memory)
        )

    def test_every_clue_is_known_to_the_pack(self):
        known = set(base_pack().clues)
        for kind in ("driver", "heat", "memory", "sound", "plugged"):
            found = clues_in(told(as_xml(history(kind, 2))))
            self.assertLessEqual({clue.id for clue in found}, known)

    def test_a_case_takes_records_and_ranks_by_them(self):
        case = self.folder / "slip-desk"
        self.run_here("open", case, "--quiet", "--fact", "family=nt")
        for name, data in slip_desk_records().items():
            (self.folder / name).write_bytes(data)
            self.run_here("add", case, self.folder / name)
        causes = self.json_here("causes", case)["causes"]
        self.assertEqual(causes[0]["id"], "driver-crashes")
        self.assertTrue(any("berthcam.sys" in cause["evidence"] for cause in causes[0]["for"]))
        found = self.json_here("crashes", case)
        self.assertEqual(found["restore_point"]["id"], "44")
        self.assertEqual(
            [point["fit"] for point in found["restore_points"]], ["before", "before", "after"]
        )
        self.assertTrue(
            any("berthcam.sys goes" in undoe for undoe in found["restore_point"]["undoes"])
        )
        self.assertTrue(found["suspects"][0]["blamed"])
        self.run_here("report", case, "-o", self.folder / "page.html")
        page = (self.folder / "page.html").read_text()
        self.assertIn("berthcam.sys", page)
        self.assertRegex(page, r"restore points by day[^<]*>\s*<svg ")
        before = (self.folder / "events.xml").read_bytes()
        for name in ("a.png", "a.svg"):
            self.run_here("crashes", self.folder / "events.xml", "--figure", self.folder / name)
            self.assertGreater((self.folder / name).stat().st_size, 5000)
        self.assertEqual((self.folder / "events.xml").read_bytes(), before)
        self.run_here("crashes", case, "--figure", "a.bmp", expect=2)

    def test_without_a_restore_point_the_next_best_is_said(self):
        found = told(as_xml(history("driver", 1)))
        self.assertEqual(found.restore_point.id, "")
        self.assertIn("no restore point is known", found.restore_point.why)
        late = json.dumps([{"id": "9", "at": "2027-06-01T00:00:00Z", "says": "Weekly"}]).encode()
        self.assertIn(
            "later than the first failure",
            told(as_xml(history("driver", 1)), late).restore_point.why,
        )


if __name__ == "__main__":
    unittest.main()
