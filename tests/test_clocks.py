"""Clocks that lie, calendars that are not written: order, uptime and neighbours tell the time."""

import json
import unittest
from datetime import UTC, datetime

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.knowledge import base_codes, base_events
from mending.model import read_time
from mending.source import MemorySource
from tests.support import InFolder

READER = Reader(base_codes(), base_events())
DAY, HOUR = 86_400, 3600
FIRST = int(datetime(2025, 10, 20, 8, tzinfo=UTC).timestamp())
LATER = FIRST + 40 * DAY
KERNEL = "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP"
SYNC = "systemd-timesyncd[300]: Initial clock synchronization to the true time."
PANIC = "Kernel panic - not syncing: Fatal exception in interrupt"


def judged(files, modified=LATER):
    reads = [
        read
        for name, data in files.items()
        for read in READER.read(name, MemorySource(data.encode()), modified)
    ]
    return analyse("pc", reads, 0, base_codes())


def short(at, text, local=0):
    return f"{datetime.fromtimestamp(at + local, UTC):%b %e %H:%M:%S} desk {text}\n"


def kernel(at, since, text, local=0):
    return short(at, f"kernel: [{since:12.6f}] {text}", local)


def stamped(at, since, text, boot):
    return json.dumps(
        {
            "__REALTIME_TIMESTAMP": str(int(at * 1e6)),
            "__MONOTONIC_TIMESTAMP": str(int(since * 1e6)),
            "_BOOT_ID": f"{boot:032x}",
            "MESSAGE": text,
            "SYSLOG_IDENTIFIER": "kernel",
            "_TRANSPORT": "kernel",
        }
    )


def times(found):
    return [read_time(start["at"] if isinstance(start, dict) else start.at)[0] for start in found]


def day(start, lies=0.0, set_after=None, panics=False):
    """A start of two hours whose clock lies by so many seconds, up to when it is set."""
    rows = []
    for since, by, text in (
        (0, "kernel", KERNEL),
        (30, "systemd-logind[9]", "New session 1 of user clerk."),
        (40, "", SYNC) if set_after else (40, "till[7]", "open"),
        (3000, "kernel", "usb 1-2: New USB device found, idVendor=abcd, idProduct=0001"),
        (7000, "kernel", PANIC) if panics else (7000, "systemd[1]", "Reached target Power-Off."),
    ):
        at = start + since + (lies if set_after is None or since < set_after else 0)
        if by == "kernel":
            rows.append(kernel(at, since, text))
        else:
            rows.append(short(at, f"{by}: {text}" if by else text))
    return "".join(rows)


class Jumps(unittest.TestCase):
    def test_a_board_without_a_battery_whose_clock_the_network_sets(self):
        back = datetime(2025, 1, 1, tzinfo=UTC).timestamp()
        log, true = "", []
        for number in range(6):
            start = FIRST + number * DAY
            lies = back - start if number % 2 else 0
            log += day(start, lies, 40 if lies else None)
            true.append(start)
        found = judged({"syslog": log})
        self.assertEqual(times(found.starts), true)
        self.assertEqual([start.ended for start in found.starts], ["clean"] * 6)
        self.assertEqual({start.minutes for start in found.starts}, {116.7})
        self.assertIn("the clock was set in 3 starts", " ".join(found.notes))

    def test_where_no_kernel_stamps_behind_the_jump(self):
        back = datetime(2025, 1, 1, tzinfo=UTC).timestamp()
        log = day(FIRST)
        for number in (1, 2):
            start = FIRST + number * DAY
            log += kernel(back, 0, KERNEL) + short(back + 30, "till[7]: open")
            log += short(back + 35, "systemd-logind[9]: New session 1 of user clerk.")
            log += short(start + 41, SYNC) + short(start + 900, "till[7]: Failed to start lamp.")
            log += short(start + 7000, "systemd[1]: Reached target Power-Off.")
        at = times(judged({"syslog": log}).starts)
        self.assertEqual(len(at), 3)
        for number in (1, 2):
            self.assertLess(abs(at[number] - FIRST - number * DAY), 60)

    def test_a_second_system_that_sets_the_board_two_hours_on(self):
        log = "".join(
            day(FIRST + number * DAY, 2 * HOUR if number == 2 else 0, 40 if number == 2 else None)
            for number in range(4)
        )
        found = judged({"syslog": log})
        self.assertEqual(times(found.starts), [FIRST + number * DAY for number in range(4)])

    def test_a_clock_that_is_never_set_right_stands_where_it_was_written(self):
        log, back = "", datetime(2025, 1, 1, 0, 0, 7, tzinfo=UTC).timestamp()
        for number in range(5):
            start = FIRST + number * DAY
            log += day(start, back - start if number == 3 else 0, panics=number == 3)
        found = judged({"syslog": log})
        at = times(found.starts)
        self.assertEqual(at, sorted(at))
        self.assertEqual(at[:3], [FIRST + number * DAY for number in range(3)])
        self.assertEqual([start.ended for start in found.starts].index("crash"), 3)
        self.assertIn("one start contradict the order", " ".join(found.notes))
        self.assertEqual(found.crashes[0].at[:10], found.starts[3].at[:10])

    def test_a_clock_that_begins_anew_with_each_of_many_starts(self):
        log = "".join(
            kernel(FIRST - 200 * DAY, 0, KERNEL) + kernel(FIRST - 200 * DAY + 1, 1, f"{PANIC} {n}")
            for n in range(9)
        )
        found = judged({"syslog": log})
        self.assertEqual((len(found.starts), len(found.crashes)), (9, 9))
        self.assertEqual((found.loops[0].starts, found.loops[0].regular), (9, False))
        self.assertIn("began anew each time", found.loops[0].says)

    def test_what_slept_has_no_clock_that_lies(self):
        log = kernel(FIRST, 0, KERNEL) + kernel(FIRST + 50, 50, "PM: suspend entry (deep)")
        woke = FIRST + 3 * DAY
        log += kernel(woke, 51, "PM: suspend exit") + kernel(woke + 60, 111, PANIC)
        found = judged({"syslog": log})
        self.assertEqual(times(found.starts), [FIRST])
        self.assertEqual(found.crashes[0].at, "2025-10-23T08:01:00Z")
        self.assertFalse([note for note in found.notes if "clock" in note])

    def test_a_journal_with_its_own_clock(self):
        rows, old = [], datetime(2021, 3, 1, tzinfo=UTC).timestamp()
        for number in range(3):
            start = FIRST + number * DAY
            lies = old - start if number == 1 else 0
            rows += [
                stamped(start + lies, 1, KERNEL, number + 1),
                stamped(start + 30, 31, "eth0: link is up", number + 1),
                stamped(start + 5000, 5001, PANIC, number + 1),
            ]
        found = judged({"j.json": "\n".join(rows)})
        self.assertEqual(times(found.starts), [FIRST + number * DAY for number in range(3)])
        self.assertEqual(len(found.crashes), 3)

    def test_lines_that_waited_until_the_log_could_be_written(self):
        written = FIRST + 700
        log = kernel(written, 0, KERNEL) + kernel(written, 680, "DMI: desk, BIOS 1.0")
        log += kernel(written + 90, 790, PANIC)
        found = judged({"syslog": log})
        self.assertEqual(times(found.starts), [written])
        self.assertFalse([note for note in found.notes if "clock" in note])

    def test_stamps_that_no_clock_shows(self):
        for since in (1e15, 1e10, 0):
            for stamp in ("0001-01-01T00:00:00", "9999-12-31T23:59:59Z", "Jan  1 00:00:00"):
                log = f"{stamp} desk kernel: [{since:12.6f}] {KERNEL} (2025-09-29)\n"
                log += kernel(FIRST, since, PANIC) + kernel(FIRST - DAY, 3, KERNEL)
                for modified in (-5e9, 0.0, LATER, 4e9):
                    found = judged({"syslog": log, "kern.log": log[:-20]}, modified)
                    self.assertEqual(len({crash.headline for crash in found.crashes}), 1)

    def test_a_journal_over_a_night_of_sleep(self):
        woke = FIRST + 9 * HOUR
        rows = (
            (FIRST + 1, 1, KERNEL),
            (FIRST + 50, 50, "PM: suspend entry (deep)"),
            (woke, 51, "Freezing user space processes"),  # written when the PC is awake again
            (woke + 1, 52, "PM: suspend exit"),
            (woke + 60, 111, PANIC),
        )
        found = judged({"j.json": "\n".join(stamped(*row, 7) for row in rows)})
        self.assertEqual(times(found.starts), [FIRST + 1])
        self.assertEqual(found.crashes[0].at, "2025-10-20T17:01:00Z")
        self.assertFalse([note for note in found.notes if "clock" in note])

    def test_an_export_with_the_newest_first(self):
        rows = [stamped(FIRST + number * DAY, 1, KERNEL, number + 1) for number in range(4)]
        found = judged({"j.json": "\n".join(reversed(rows))})
        self.assertEqual(times(found.starts), [FIRST + number * DAY for number in range(4)])


class Years(unittest.TestCase):
    def test_over_new_year_and_a_clock_that_began_anew_in_between(self):
        start = int(datetime(2025, 12, 28, 8, tzinfo=UTC).timestamp())
        log = "".join(day(start + number * DAY) for number in range(8))
        found = judged({"syslog": log}, start + 9 * DAY)
        self.assertEqual(times(found.starts), [start + number * DAY for number in range(8)])
        # a battery that is empty in May is no new year
        may = int(datetime(2025, 5, 20, 8, tzinfo=UTC).timestamp())
        back = datetime(2025, 1, 1, 0, 0, 5, tzinfo=UTC).timestamp()
        log = "".join(
            day(may + number * DAY, back - may - number * DAY if number in {2, 5} else 0)
            for number in range(6)
        )
        at = times(judged({"syslog": log}, may + 7 * DAY).starts)
        self.assertEqual(at[:2], [may, may + DAY])
        self.assertEqual((at[3], at[4]), (may + 3 * DAY, may + 4 * DAY))
        self.assertEqual(at, sorted(at))

    def test_the_file_is_copied_years_later_and_a_journal_has_the_year(self):
        log = "".join(day(FIRST + number * DAY) for number in range(5))
        rows = "\n".join(
            stamped(FIRST + number * DAY, 1, KERNEL, number + 1) for number in range(5)
        )
        found = judged({"syslog": log, "j.json": rows}, LATER + 3 * 365 * DAY)
        self.assertEqual(times(found.starts), [FIRST + number * DAY for number in range(5)])
        self.assertIn("it is taken for 2025, by the records beside it", " ".join(found.notes))

    def test_the_time_of_the_file_was_lost_and_the_kernel_says_when_it_was_built(self):
        for words in ("#1 SMP Ferry 6.1.55-1 (2025-09-29)", "#1 SMP Mon Sep 29 10:00:00 UTC 2025"):
            log = kernel(FIRST, 0, f"{KERNEL} {words}") + kernel(FIRST + 90, 90, PANIC)
            found = judged({"syslog": log}, 0.0)
            self.assertEqual(found.crashes[0].at, "2025-10-20T08:01:30Z")
            self.assertIn("by the kernels that start in it", " ".join(found.notes))

    def test_the_package_log_says_since_when_a_kernel_is_there(self):
        log = kernel(FIRST, 0, KERNEL) + kernel(FIRST + 90, 90, PANIC)
        packages = "2025-09-30 10:00:00 install linux-image-6.1.0-ferry:amd64 <none> 6.1-1\n"
        found = judged({"syslog": log, "dpkg.log": packages}, 0.0)
        self.assertEqual(found.crashes[0].at[:4], "2025")
        alone = judged({"syslog": log}, 0.0)
        self.assertNotEqual(alone.crashes[0].at[:4], "2025")


class Zones(unittest.TestCase):
    def test_local_time_over_the_end_of_summer_time(self):
        ends = int(datetime(2025, 10, 26, 1, tzinfo=UTC).timestamp())
        log, rows = "", []
        for number in range(10):
            start = FIRST + number * DAY
            local = 2 * HOUR if start < ends else HOUR
            panic = f"{PANIC} {number}"
            log += kernel(start, 0, KERNEL, local) + kernel(start + 99, 99, panic, local)
            rows += [
                stamped(start, 0, KERNEL, number + 1),
                stamped(start + 99, 99, panic, number + 1),
            ]
        found = judged({"syslog": log, "j.json": "\n".join(rows)})
        self.assertEqual((len(found.starts), len(found.crashes)), (10, 10))
        self.assertEqual(found.written, 20)
        self.assertRegex(" ".join(found.notes), "2 hours|1 hour")

    def test_the_end_of_a_log_of_local_time_is_no_sign_of_life_of_another(self):
        rows = [stamped(FIRST, 0, KERNEL, 1), stamped(FIRST + 900, 900, "x", 1)]
        stop = json.loads(rows[1]) | {"MESSAGE": "Reached target Power-Off."}
        rows[1] = json.dumps(stop | {"SYSLOG_IDENTIFIER": "systemd", "_TRANSPORT": "syslog"})
        rows.append(stamped(FIRST + 90_000, 0, KERNEL, 2))
        later = datetime.fromtimestamp(FIRST + 9000, UTC)
        log = f"{later:%Y-%m-%d %H:%M:%S} status installed tide:amd64 1.0\n"
        found = judged({"j.json": "\n".join(rows), "dpkg.log": log})
        self.assertEqual([start.ended for start in found.starts], ["clean", "running"])


class Command(InFolder):
    def test_what_was_put_right_is_said(self):
        back = datetime(2025, 1, 1, tzinfo=UTC).timestamp()
        (self.folder / "syslog").write_text(day(FIRST) + day(FIRST + DAY, back - FIRST - DAY, 40))
        shown = self.run_here("crashes", self.folder / "syslog")
        self.assertIn("the clock was set in one start", " ".join(shown.split()))


if __name__ == "__main__":
    unittest.main()
