"""Ends without a shutdown and without a crash: last words, heat, power, watchdogs, and hands."""

import json
import unittest
from datetime import UTC, datetime

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from tests.support import InFolder

READER = Reader(base_codes(), base_events())
FIRST = int(datetime(2026, 10, 20, 8, tzinfo=UTC).timestamp())
LATER = FIRST + 20 * 86_400
KERNEL = "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP"
RESET = "x86/amd: Previous system reset reason [0x{:08x}]: {}"


def line(at, text):
    return f"{datetime.fromtimestamp(at, UTC):%b %e %H:%M:%S} desk {text}\n"


def kernel(at, since, text):
    return line(at, f"kernel: [{since:12.6f}] {text}")


def history(*before, reset=""):
    """A clean day, a day that ends with these lines (seconds into it and words), and a start."""
    second = FIRST + 86_400
    third = second + 40_000
    rows = [kernel(FIRST, 0, KERNEL), line(FIRST + 999, "systemd[1]: Reached target Power-Off.")]
    rows.append(kernel(second, 0, KERNEL))
    rows += [line(second + at, text) for at, text in before]
    rows.append(kernel(third, 0, KERNEL))
    rows += [kernel(third, 0.1, reset)] if reset else []
    rows.append(line(third + 999, "systemd[1]: Reached target Power-Off."))
    return "".join(rows).encode()


def judged(data, name="syslog"):
    reads = READER.read(name, MemorySource(data), LATER)
    return analyse("pc", reads, 0, base_codes())


def silent(*before, reset=""):
    found = judged(history(*before, reset=reset))
    (end,) = found.silent_ends
    return end, [start.ended for start in found.starts]


class Ends(unittest.TestCase):
    def test_the_last_words_and_the_silence(self):
        end, ended = silent((500, "till[7]: ticket 1 sold"), (520, "till[7]: ticket 2 sold"))
        self.assertEqual((end.last, end.silent_seconds), ("till: ticket 2 sold", 40_000 - 520))
        self.assertEqual((end.by_hand, end.signs, end.watchdog), ("", (), False))
        self.assertEqual(ended, ["clean", "unclean", "clean"])

    def test_heat_and_power_before_it(self):
        end, _ = silent(
            (500, "kernel: [  500.000000] CPU0: Core temperature above threshold, cpu clock slow"),
            (510, "upsmon[3]: UPS quay on battery"),
            (520, "till[7]: ticket 2 sold"),
        )
        self.assertEqual(end.signs, ("heat", "power"))
        for words in (
            "ACPI: AC: AC Adapter [ADP1] (off-line)",
            "hwmon hwmon1: Undervoltage detected!",
        ):
            end, _ = silent((500, f"kernel: [  500.000000] {words}"), (520, "till[7]: sold"))
            self.assertEqual(end.signs, ("power",), words)
        long_before = ((10, "upsmon[3]: UPS quay on battery"), (5000, "till[7]: sold"))
        self.assertEqual(silent(*long_before)[0].signs, ())

    def test_a_person_who_cuts_it_while_it_answers_saw_no_fault(self):
        key = "systemd-logind[9]: Power key pressed short."
        end, ended = silent((500, "till[7]: sold"), (520, key))
        self.assertEqual((end.by_hand, ended[1]), ("answered", "by-hand"))
        end, ended = silent((500, "till[7]: sold"), (4000, key))
        self.assertEqual((end.by_hand, ended[1]), ("hung", "unclean"))
        end, ended = silent((500, key), (5000, "till[7]: sold"))
        self.assertEqual((end.by_hand, ended[1]), ("", "unclean"))

    def test_what_the_processor_says(self):
        words = "hardware watchdog timer expired"
        end, _ = silent((500, "till[7]: sold"), reset=RESET.format(0x02000800, words))
        self.assertEqual((end.watchdog, end.reset, end.by_hand), (True, words, ""))
        words = "power button was pressed for 4 seconds"
        end, ended = silent((500, "till[7]: sold"), reset=RESET.format(0x00080800, words))
        self.assertEqual((end.watchdog, end.by_hand, ended[1]), (False, "unknown", "unclean"))

    def test_an_event_log_that_knows_of_the_key(self):
        rows = []
        for at, number, by, values in (
            (0, 12, "Kernel-General", {}),
            (5000, 12, "Kernel-General", {}),
            (5005, 41, "Kernel-Power", {"BugcheckCode": "0", "PowerButtonTimestamp": "13377"}),
            (9000, 12, "Kernel-General", {}),
            (9005, 41, "Kernel-Power", {"BugcheckCode": "0", "PowerButtonTimestamp": "0"}),
            (9900, 13, "Kernel-General", {}),
        ):
            time = datetime.fromtimestamp(FIRST + at, UTC).isoformat()
            data = "".join(f'<Data Name="{key}">{value}</Data>' for key, value in values.items())
            rows.append(
                f'<Event><System><Provider Name="{by}"/><EventID>{number}</EventID>'
                f'<TimeCreated SystemTime="{time}"/></System><EventData>{data}</EventData></Event>'
            )
        found = judged(f"<Events>{''.join(rows)}</Events>".encode(), "system.xml")
        self.assertEqual([end.by_hand for end in found.silent_ends], ["unknown", ""])

    def test_a_journal_gives_the_last_words_too(self):
        rows = [
            json.dumps(
                {
                    "__REALTIME_TIMESTAMP": str((FIRST + at) * 1_000_000),
                    "_BOOT_ID": boot,
                    "MESSAGE": text,
                    "SYSLOG_IDENTIFIER": "till",
                }
            )
            for at, boot, text in (
                (0, "a", "x"), (9, "a", "Failed to start lamp."), (50, "a", "calm sea"),
                (9000, "b", "x"), (9009, "b", "y"),
            )
        ]  # fmt: skip
        rows[1] = rows[1].replace('"till"', '"systemd"')
        stop = json.loads(rows[-1]) | {
            "MESSAGE": "Reached target Power-Off.",
            "SYSLOG_IDENTIFIER": "systemd",
        }
        found = judged("\n".join([*rows, json.dumps(stop)]).encode(), "j.json")
        self.assertEqual([end.last for end in found.silent_ends], ["till: calm sea"])


class Command(InFolder):
    def test_it_is_said_what_was_last(self):
        (self.folder / "syslog").write_bytes(history((500, "till[7]: ticket 2 sold")))
        shown = " ".join(self.run_here("crashes", self.folder / "syslog").split())
        self.assertIn("last words: till: ticket 2 sold", shown)
        self.assertIn("goes silent", shown)

    def test_a_cut_by_hand_has_its_place_in_the_list_and_in_the_picture(self):
        key = "systemd-logind[9]: Power key pressed short."
        (self.folder / "syslog").write_bytes(history((500, "till[7]: sold"), (520, key)))
        picture = self.folder / "history.svg"
        shown = self.run_here("crashes", self.folder / "syslog", "--figure", picture)
        self.assertIn("1 ended by the power key", " ".join(shown.split()))
        self.assertIn("switched off by hand", picture.read_text())


if __name__ == "__main__":
    unittest.main()
