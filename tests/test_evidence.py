"""Files of evidence: dumps, event logs, journals, tables, repair logs, packed and hostile ones."""

import gzip
import io
import json
import lzma
import struct
import unittest
import zipfile
import zlib

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.crash.judge import analyse
from mending.crash.read import Reader
from mending.formats import dumps, event_log, histories, journal, kernel_text
from mending.knowledge import base_codes, base_events
from mending.model import decode_text, plain_time, read_time
from mending.repair.boot import own_code
from mending.source import MemorySource
from mending.workshop import DumpDraft, leave_records, samples
from tests.samples import needs_samples, read_samples
from tests.support import InFolder, needs, sha, tool
from tests.volumes import disk_of, make_volume

NOW = 1_795_600_000.0
CORE = 0xFFFFF800_00000000
DRIVERS = [
    ("kernel.exe", CORE, 0x800000),
    ("layer.dll", CORE + 0x900000, 0x80000),
    ("slip.sys", CORE + 0x2000000, 0x20000),
    ("\\folder\\till.sys", CORE + 0x3000000, 0x30000),
]
WIDE = DumpDraft(
    64,
    0x7E,
    (0xFFFFFFFF_C0000005, CORE + 0x3001234, 0, 0),
    DRIVERS,
    (CORE + 0x1000, CORE + 0x2000100, 5, CORE + 0x3002010),
    (0xC0000005, CORE + 0x3001234),
    CORE + 0x3001234,
)
NARROW = DumpDraft(
    32,
    0xD1,
    (0x18, 2, 0, 0xF7801234),
    [
        ("kernel.exe", 0x80400000, 0x200000),
        ("layer.dll", 0x80700000, 0x20000),
        ("lamp.sys", 0xF7800000, 0x8000),
    ],
    (0x80401000, 0xF7801300),
    None,
    0x80401000,
)
EVENTS = """<?xml version="1.0"?><Events>
<Event xmlns="urn:example"><System><Provider Name="Ferry-Kernel-General"/><EventID>12</EventID>
<TimeCreated SystemTime="2026-11-20T08:00:00.5Z"/></System><EventData/></Event>
<Event><System><Provider Name="Ferry-Kernel-Power"/><EventID Qualifiers="0">41</EventID>
<TimeCreated SystemTime="2026-11-20T08:00:01Z"/></System>
<EventData><Data Name="BugcheckCode">126</Data></EventData></Event>
</Events>"""
SNAPSHOT = """<?xml version="1.0"?>
<snapshot><type>single</type><num>7</num>
<date>2026-11-18 09:00:00</date><description>Weekly</description></snapshot>
"""
REPAIR = """Diagnosis and repair log
---------------------------
Number of repair attempts: 2

Test Performed:
---------------------------
Name: Is the drive there
Result: Completed successfully. Error code = 0x0
Time taken = 15 ms

Test Performed:
---------------------------
Name: Files that the start needs
Result: Completed with an error. Error code = 0x490
Time taken = 3 ms

Root cause found:
---------------------------
A file that the start needs is damaged: till.sys

Repair action: Put back the file
Result: Failed. Error code = 0x2
Time taken = 3406 ms

"""


def read(data, name="evidence"):
    return Reader(base_codes(), base_events()).read(name, MemorySource(data), NOW)


def read_one(data):
    (found,) = read(data)
    return found


class Dumps(unittest.TestCase):
    def test_headers_of_both_widths(self):
        for draft, kind, number in (
            (WIDE, "small", 4),
            (NARROW, "small", 4),
            (WIDE, "full", 1),
            (NARROW, "kernel", 2),
        ):
            draft = DumpDraft(**{**vars(draft), "kind": number})
            data = draft.encode()
            found = dumps.read(
                lambda at, length, data=data: data[at : at + length], len(data)
            ).record
            self.assertEqual((found.bits, found.kind, found.code), (draft.bits, kind, draft.code))
            self.assertEqual(
                (found.parameters, found.at, found.uptime),
                (draft.parameters, draft.at, draft.uptime),
            )
            self.assertEqual((found.build, found.processors), (draft.build, draft.processors))
            self.assertEqual(
                (found.exception, found.instruction), (draft.exception, draft.instruction)
            )

    def test_the_module_at_fault_is_ranked_first_and_the_core_last(self):
        crash = read_one(WIDE.encode()).crashes[0]
        self.assertEqual(
            [row.name for row in crash.modules], ["till.sys", "slip.sys", "kernel.exe"]
        )
        self.assertEqual(
            (crash.module, crash.name, crash.code),
            ("till.sys", "SYSTEM_THREAD_EXCEPTION_NOT_HANDLED", "0x7e"),
        )
        self.assertIn("the exception was raised in it", crash.modules[0].why)
        self.assertIn("STATUS_ACCESS_VIOLATION", crash.parameters[0])
        self.assertEqual(crash.at, plain_time(WIDE.at))
        self.assertEqual(
            [row.name for row in read_one(NARROW.encode()).crashes[0].modules],
            ["lamp.sys", "kernel.exe"],
        )

    def test_damage_is_said(self):
        data = WIDE.encode()
        far = bytearray(data)
        struct.pack_into("<II", far, 0x2000 + 0x30, 0x7FFFFFFF, 0xFFFFFFFF)
        lost = bytearray(data)
        struct.pack_into("<II", lost, 0x2000 + 0x28, 0x7FFFFFFF, 64)
        rows = (
            (data[:0x900], "header"),
            (bytes(far), "drivers"),
            (bytes(lost), "a place in the file"),
        )
        rows += ((b"PAGEDU64" + bytes(0x2000), "zeros"), (data[:0x2200], "drivers"))
        for broken, word in rows:
            marks = " ".join(read_one(broken).crashes[0].marks)
            self.assertIn("not whole", marks)
            self.assertIn(word, marks)
        large = DumpDraft(**{**vars(WIDE), "kind": 1, "needed": 1 << 33})
        self.assertIn("8589934592", " ".join(read_one(large.encode()).crashes[0].marks))

    def test_a_large_dump_is_not_read_whole(self):
        class Huge(MemorySource):
            size = 1 << 40

        source = Huge(WIDE.encode())
        source.size = 1 << 40
        found = Reader(base_codes(), base_events()).read("huge", source, NOW)[0]
        self.assertEqual(found.crashes[0].module, "till.sys")
        self.assertLess(source.bytes_read, 2 << 20)

    @given(st.binary(max_size=300), st.integers(0, 0x2200))
    @settings(max_examples=200, deadline=None)
    def test_any_bytes_give_a_record(self, noise, at):
        for draft in (WIDE, NARROW):
            data = draft.encode()
            read_one(data[:8] + (data[: max(at, 8)] + noise + data[max(at, 8) + len(noise) :])[8:])


class Logs(InFolder):
    def events(self, data):
        return [
            (plain_time(event.at), event.kind, event.name, event.code)
            for event in read_one(data).events
        ]

    def test_exported_events(self):
        wanted = [
            ("2026-11-20T08:00:00Z", "start", "", None),
            ("2026-11-20T08:00:01Z", "crash", "", 0x7E),
        ]
        for data in (
            EVENTS.encode(),
            EVENTS.replace('"1.0"', '"1.0" encoding="utf-16"').encode("utf-16"),
        ):
            self.assertEqual(self.events(data), wanted)
        table = (
            "TimeCreated;ProviderName;Id;Message\r\n20.11.2026"
            " 08:00:00;Ferry-Kernel-General;12;up\r\n20.11.2026"
            ' 08:00:01;Ferry-SystemErrorReporting;1001;"code ""0x0000007e"" (0x1, 0x2)"\r\n'
        )
        self.assertEqual(self.events(table.encode()), wanted)
        rows = [
            {
                "TimeCreated": "/Date(1795161600000)/",
                "ProviderName": "Ferry-Kernel-General",
                "Id": 12,
                "Message": None,
            },
            {
                "TimeCreated": "2026-11-20T09:00:01+01:00",
                "ProviderName": "x-BugCheck",
                "Id": 1001,
                "Message": "0x7E (0x1)",
            },
        ]
        self.assertEqual(self.events(json.dumps(rows).encode()), wanted)

    def test_a_real_event_log(self):
        self.real_log()

    @needs_samples("dissect.eventlog")
    def real_log(self):
        ((_, data),) = read_samples("dissect.eventlog", "_data/*.evtx")
        found = read_one(data)
        self.assertEqual(
            (found.kind, plain_time(found.first)[:10], found.notes), ("event log", "2021-07-22", ())
        )
        for at in range(0, len(data), 997):
            read_one(data[:at] + b"\xff" * 40 + data[at + 40 :])
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as file:
            file.writestr("logs/test.evtx", data)
            file.writestr("last.dmp", WIDE.encode())
        self.assertEqual([row.kind for row in read(archive.getvalue())], ["event log", "dump"])

    def test_journals(self):
        rows = [
            {
                "__REALTIME_TIMESTAMP": "1795161600000000",
                "_BOOT_ID": "a",
                "MESSAGE": "x",
                "_TRANSPORT": "kernel",
            },
            {
                "__REALTIME_TIMESTAMP": "1795161700000000",
                "_BOOT_ID": "a",
                "SYSLOG_IDENTIFIER": "systemd",
                "MESSAGE": [
                    70,
                    97,
                    105,
                    108,
                    101,
                    100,
                    32,
                    116,
                    111,
                    32,
                    115,
                    116,
                    97,
                    114,
                    116,
                    32,
                    84,
                    46,
                ],
            },
            {"__REALTIME_TIMESTAMP": "1795161800000000", "_BOOT_ID": "b", "MESSAGE": None},
        ]
        wanted = [
            ("2026-11-20T08:00:00Z", "start", "a", None),
            ("2026-11-20T08:01:40Z", "failed", "T", None),
            ("2026-11-20T08:03:20Z", "start", "b", None),
        ]
        text = "\n".join(map(json.dumps, rows)).encode()
        self.assertEqual(self.events(text + b'\n{"cut\n[1]\n'), wanted)
        binary = b"MESSAGE\n" + struct.pack("<Q", 18) + b"Failed to start T.\n"
        export = (
            b"__REALTIME_TIMESTAMP=1795161600000000\n_BOOT_ID=a\nMESSAGE=x\n\n"
            b"__REALTIME_TIMESTAMP=1795161700000000\n"
            b"_BOOT_ID=a\nSYSLOG_IDENTIFIER=systemd\n"
            + binary
            + b"\n__REALTIME_TIMESTAMP=1795161800000000\n_BOOT_ID=b\n"
        )
        self.assertEqual(self.events(export), wanted)
        list(journal.read_export(io.BytesIO(b"MESSAGE\n" + b"\xff" * 8 + b"x")))

    def test_a_crash_in_a_journal_is_read_like_one_in_a_log_and_may_be_survived(self):
        words = (
            "BUG: kernel NULL pointer dereference, address: 0000000000000018",
            "Oops: 0000 [#1] PREEMPT SMP NOPTI",
            "RIP: 0010:till_read+0x2c/0x80 [ferry_till]",
        )
        rows = [
            (0, "kernel", "Linux version 6.1"),
            *((60 + at, "kernel", text) for at, text in enumerate(words)),
        ]
        rows += [(4000, "till", "ticket sold"), (4100, "systemd", "Reached target Power-Off.")]
        text = "".join(
            json.dumps(
                {
                    "__REALTIME_TIMESTAMP": str(1795161600000000 + at * 1000000),
                    "_BOOT_ID": "a",
                    "MESSAGE": words,
                    "_TRANSPORT": by,
                    "SYSLOG_IDENTIFIER": by,
                }
            )
            + "\n"
            for at, by, words in rows
        )
        found = analyse("x", read(text.encode()), 0, base_codes())
        self.assertEqual(
            [(crash.kind, crash.module, crash.at) for crash in found.crashes],
            [("oops", "ferry_till", "2026-11-20T08:01:00Z")],
        )
        self.assertEqual([start.ended for start in found.starts], ["clean"])

    def test_system_logs_in_every_form(self):
        rows = (
            (
                "<6>1 2026-11-20T08:00:00.5Z desk kernel - - - Linux version 6.1.0 x",
                1_795_161_600.5,
                "kernel",
            ),
            (
                '<6>1 2026-11-20T08:00:00Z desk kernel 1 ID [a@1 b="c\\]\\"d"] Linux version 6.1.0',
                1_795_161_600.0,
                "kernel",
            ),
            (
                "Nov 20 08:00:00 desk kernel: [    0.000000] Linux version 6.1.0",
                1_795_161_600.0,
                "kernel",
            ),
            (
                "2026-11-20T10:00:00+02:00 desk kernel: Linux version 6.1.0",
                1_795_161_600.0,
                "kernel",
            ),
        )
        for text, at, _by in rows:
            found = read_one(text.encode() + b"\n")
            self.assertEqual(
                [(event.kind, event.at) for event in found.events], [("start", at)], text
            )
        packages = (
            "2026-11-20 08:00:00 install till:amd64 <none> 1.0\n2026-11-20 08:00:01 upgrade"
            " libc6:amd64 1 2\n"
        )
        self.assertEqual(
            [row[1:3] for row in self.events(packages.encode())],
            [("installed", "till"), ("installed", "libc6")],
        )

    def test_a_log_without_years_runs_over_new_year(self):
        text = (
            "Dec 31 23:50:00 desk kernel: Linux version 6.1\nJan  1 00:10:00 desk kernel: Linux"
            " version 6.1\n"
        )
        self.assertEqual(
            [row[0] for row in self.events(text.encode())],
            ["2025-12-31T23:50:00Z", "2026-01-01T00:10:00Z"],
        )

    def test_ends_before_the_root(self):
        rows = (
            ("ALERT!  UUID=5ea0 does not exist.  Dropping to a shell!", "root-missing"),
            ("You are in emergency mode. After logging in, type", "emergency"),
            (
                (
                    "[ 3.1] Kernel panic - not syncing: No working init found.  Try passing init="
                    " option"
                ),
                "init-missing",
            ),
        )
        for text, kind in rows:
            self.assertEqual([row.kind for row in read_one(text.encode() + b"\n").crashes], [kind])

    def test_the_log_of_an_automatic_repair(self):
        for data in (REPAIR.encode(), REPAIR.replace("\n", "\r\n").encode("utf-16")):
            (attempt,) = read_one(data).repairs
            self.assertEqual(
                (attempt.tested, len(attempt.complained), len(attempt.tried)), (2, 1, 1)
            )
            self.assertEqual(attempt.found, ("A file that the start needs is damaged: till.sys",))
            self.assertIn("none of them worked", attempt.says)
        clean = histories.read_repair_log(REPAIR.split("Root cause")[0].replace("0x490", "0x0"))
        self.assertTrue(all(row.good for row in clean.tested))
        self.assertEqual([row.milliseconds for row in clean.tested], [15, 3])

    def test_restore_points_in_lists(self):
        ours = {
            "mending": "restore-points/1",
            "points": [{"id": "7", "at": "2026-11-18T09:00:00Z", "says": "Weekly"}],
        }
        shell = [
            {
                "SequenceNumber": 7,
                "CreationTime": "20261118090000.000000-000",
                "Description": "Weekly",
            }
        ]
        for data in (
            json.dumps(ours),
            json.dumps(shell),
            "id,date,description\n7,2026-11-18 09:00:00,Weekly\n",
            SNAPSHOT,
        ):
            (point,) = read_one(data.encode()).points
            self.assertEqual(
                (point.id, plain_time(point.at), point.says),
                ("7", "2026-11-18T09:00:00Z", "Weekly"),
            )

    def test_packed_logs(self):
        text = b"2026-11-20T08:00:00Z desk kernel: Linux version 6.1\n" * 3000
        for data in (gzip.compress(text), lzma.compress(text), zlib.compress(text)):
            self.assertEqual(len(read_one(data).events), 3000)
            self.assertIn(
                "damaged",
                " ".join(read_one(data[: len(data) // 2] + bytes(30)).notes)
                + "damaged" * (data[0] == 0x78),
            )

    def test_times(self):
        rows = (
            ("20.11.2026 08:00:00", "08:00"),
            ("11/20/2026 8:00:00 PM", "20:00"),
            ("20261120080000.000000+060", "07:00"),
        )
        for text, wanted in rows:
            self.assertEqual(plain_time(read_time(text)[0])[:16], f"2026-11-20T{wanted}")
        self.assertEqual(
            plain_time(read_time("20/11/2026 08:00:00", day_first=True)[0])[:10], "2026-11-20"
        )
        self.assertIsNone(read_time("2026-13-45T99:00:00Z"))


class AddedAgain(InFolder):
    def test_the_same_dump_three_times_is_one_crash(self):
        (slip,) = [sample for sample in samples(own_code()) if sample.name == "slip-desk"]
        dump = next(path for path in leave_records(slip, self.folder) if path.suffix == ".dmp")
        other = dump.with_name("other-name.dmp")
        other.write_bytes(dump.read_bytes())
        case = self.folder / "case"
        self.run_here("open", case, "--quiet")
        self.run_here("add", case, dump, dump, other)
        self.assertEqual(len(self.json_here("crashes", case)["crashes"]), 1)


class Hardware(unittest.TestCase):
    """Expected words are read off the tables of the architecture's manual by hand."""

    def test_states_of_banks(self):
        rows = (
            (
                0xB200_0000_0007_0F0F,
                (
                    "a bus or the connection between processors and memory; not put right, the"
                    " processor's"
                ),
            ),
            (0x9C00_0040_0001_009F, "memory, at reading; put right"),
            (
                0xFE00_0000_0080_0134,
                "a cache of level 0 for data; not put right, the processor's state was lost, more",
            ),
            (0xBE00_0000_0000_0400, "a timer inside it ran out; not put right"),
        )
        for state, says in rows:
            self.assertTrue(
                kernel_text.state_says(state).startswith(says), kernel_text.state_says(state)
            )
        self.assertEqual(kernel_text.state_says(0x3200_0000_0007_0F0F), "")

    def test_records_in_logs_and_dumps(self):
        text = (
            "[1.0] mce: [Hardware Error]: CPU 0: Machine Check: 0 Bank 4: b200000000070f0f\n"
            "[1.1] {1}[Hardware Error]: event severity: fatal\n"
            "[1.2] {1}[Hardware Error]:   section_type: memory error\n"
        )
        marks = read_one(text.encode()).crashes[0].marks
        self.assertIn("bank 4: a bus", marks[0])
        self.assertEqual(marks[1:], ("event severity: fatal", "section_type: memory error"))
        draft = DumpDraft(64, 0x124, (0, CORE + 5, 0xBE000000, 0x800400), DRIVERS)
        self.assertIn(
            "the processor reports: a timer", " ".join(read_one(draft.encode()).crashes[0].marks)
        )


class Disks(InFolder):
    @needs("sfdisk", "mke2fs", "mkfs.fat", "mcopy", "mmd")
    def test_the_records_of_installed_systems_are_found_on_the_disk(self):
        root, ours = self.folder / "root", self.folder / "ours"
        for folder in ("var/log", "usr", "etc", ".snapshots/7"):
            (root / folder).mkdir(parents=True)
        (root / "etc/os-release").write_text('PRETTY_NAME="Ferry desk"\n')
        (root / "var/log/kern.log").write_text(
            "[ 5.0] Kernel panic - not syncing: hand on the wheel\n"
        )
        (root / "var/log/auth.log").write_text("[ 5.0] Kernel panic - not syncing: not looked at\n")
        (root / ".snapshots/7/info.xml").write_text(SNAPSHOT)
        ext, fat = self.folder / "ext", make_volume(self.folder, "fat32")
        tool("mke2fs", "-q", "-t", "ext4", "-d", root, ext, "32M")
        for folder in (
            "",
            "/small",
            "/System32",
            "/System32/config",
            "/System32/a",
            "/System32/a/Logs",
        ):
            tool("mmd", "-i", fat, f"::DESK{folder}")
        for name, data in (
            ("System32/config/SYSTEM", b"regf" + bytes(100)),
            ("small/last.dmp", WIDE.encode()),
            ("System32/a/Logs/System.evtx", b"ElfFile\0" + bytes(8000)),
        ):
            ours.write_bytes(data)
            tool("mcopy", "-i", fat, ours, f"::DESK/{name}")
        path, _ = disk_of(self.folder, (ext, fat))
        before = sha(path)
        found = self.json_here("crashes", path)
        self.assertEqual(
            [crash["headline"][:16] for crash in found["crashes"]],
            ["hand on the whee", "stop code 0x7e ("],
        )
        self.assertEqual(found["crashes"][1]["file"], "volume 2: /DESK/small/last.dmp")
        self.assertIn("volume 2: /DESK/System32/a/Logs/System.evtx", found["files"])
        self.assertEqual([point["id"] for point in found["restore_points"]], ["7"])
        self.assertEqual(sha(path), before)
        self.run_here("open", self.folder / "pc", "--quiet", "--disk", path)
        self.assertEqual(len(self.json_here("crashes", self.folder / "pc")["crashes"]), 2)


class Hostile(InFolder):
    def test_traps_end_soon(self):
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as file:
            file.writestr("a.log", bytes(150_000_000))
            file.writestr("b.log", bytes(150_000_000))
        notes = [note for row in read(bomb.getvalue()) for note in row.notes]
        self.assertIn("grows beyond every log", notes[0])
        self.assertIn("grows beyond", read_one(gzip.compress(bytes(100_000_000), 9)).notes[0])
        laughs = (
            '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a'
            ' "aaaa">]><Events><Event>&a;</Event></Events>'
        )
        for data in (laughs.encode(), laughs.encode("utf-16")):
            self.assertIn("entities", read_one(data).notes[0])
        self.assertEqual(read_one(b"[" * 200_000).events, ())
        torn = io.BytesIO()
        with zipfile.ZipFile(torn, "w") as file:
            file.writestr("a.log.gz", b"not packed")
            file.writestr("b.dmp", WIDE.encode())
        data = bytearray(torn.getvalue())
        data[data.index(b"not packed")] ^= 1
        self.assertEqual([row.kind for row in read(bytes(data))], ["damaged", "dump"])

    def test_nothing_of_it_reaches_the_terminal(self):
        evil = "\x1b]0;boo\x07\x1b[2J\u202e"
        story = EVENTS.replace("126", "126</Data><Data Name='x'>" + "AAAA" * 10).encode()
        log = "Nov 20 08:00:00 desk kernel: Linux version 6.1\n"
        log += f"Nov 20 08:05:00 desk systemd[1]: Failed to start {evil}.\n"
        points = json.dumps([{"id": evil, "at": "2026-11-18T09:00:00Z", "says": evil}])
        bad = DumpDraft(
            **{**vars(WIDE), "drivers": [*DRIVERS[:3], (f"{evil}.sys", *DRIVERS[3][1:])]}
        )
        files = {
            "a.xml": story,
            "b.log": log.encode() + b"\0\xff" * 5_000_000,
            "c.json": points.encode(),
            "d.dmp": bad.encode(),
        }
        for name, data in files.items():
            (self.folder / name).write_bytes(data)
        shown = self.run_here("crashes", self.folder)
        self.assertFalse([char for char in shown if ord(char) < 32 and char not in "\n\t"])
        self.assertNotIn("\u202e", shown)
        self.json_here("crashes", self.folder)

    @given(st.text(max_size=300), st.binary(max_size=200))
    @settings(max_examples=150, deadline=None)
    def test_any_text_and_bytes_are_read(self, text, data):
        fronts = (
            "",
            "<Events><Event>",
            "TimeCreated,a,b\n",
            '[{"time":',
            "__REALTIME_TIMESTAMP=1\n",
            "<1>1 2026-01-01T00:00:00Z a ",
        )
        for front in fronts:
            read(front.encode() + text.encode("utf-8", "replace") + data)
        event_log.from_json(
            {"Event": {"System": text, "EventData": {text: [text, None, {text: 1}]}}}, 1
        )
        event_log.rows_of(data)
        histories.read_repair_log(decode_text(data + text.encode("utf-8", "replace")))
        kernel_text.read_line(data, 1)

    def test_evidence_without_anything_to_say(self):
        for data in (b"", b"\n", b"tickets sold: 3\n", b"a,b\n1,2\n"):
            result = analyse("x", read(data), 0, base_codes())
            self.assertEqual((result.crashes, result.starts, result.onset), ((), (), None))


if __name__ == "__main__":
    unittest.main()
