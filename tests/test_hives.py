"""Settings hives against an independent reader, on real ones; damage; logs that end a write."""

import contextlib
import hashlib
import io
import struct
import subprocess
import tempfile
import time
import unittest
from pathlib import Path
from random import Random

from hypothesis import given
from hypothesis import strategies as st
from Registry import RegistryLog

from mending.disk.hives import Hive, remaining_keys, replayed, walk
from mending.formats import hives
from mending.formats.hives import DamagedHiveError
from mending.model import InputError
from tests.samples import needs_samples, read_samples
from tests.support import needs

ORACLE = Path("/usr/lib/python3/dist-packages/hivex/__init__.py")
DUMP = """
import hashlib, hivex, sys
hive = hivex.Hivex(sys.argv[1])
waiting = [("", hive.root())]
while waiting:
    path, node = waiting.pop()
    print(repr((path, len(hive.node_values(node)))))
    for value in hive.node_values(node):
        kind, data = hive.value_value(value)
        print(repr((path, hive.value_key(value), kind, hashlib.sha256(data).hexdigest())))
    waiting += [(path + chr(92) + hive.node_name(each), each) for each in hive.node_children(node)]
"""
REAL_LOG_HEAD = bytes.fromhex("48764c45002e0000000000008300000000000700020000001dd9b16db892ae9e")
REAL_LOG_SUM = 0xB41D_C2E4_3017_E264
"""The first 32 bytes of an entry of a real log, and the checksum that its system wrote behind."""
SECOND = 1.0
LARGE = 2 << 20
ELSEWHERE = 600


def samples():
    for package, pattern in (("dfwinreg", "*"), ("dissect.regf", "_data/*"), ("winevtrc", "S*")):
        for name, data in read_samples(package, pattern):
            if data[:4] == b"regf" and ".LOG" not in name:
                yield f"{package}: {name}", data


def rows(data):
    hive = Hive(data)
    for path, key in walk(hive.root):
        values = list(key.values())
        yield repr((path, len(values)))
        for value in values:
            digest = hashlib.sha256(hive.data(value)).hexdigest()
            yield repr((path, value.name, value.type, digest))


def small():
    """A real hive of half a megabyte."""
    return next(data for name, data in samples() if name == "dfwinreg: NTUSER.DAT")


@needs_samples("dfwinreg", "dissect.regf", "winevtrc")
class Real(unittest.TestCase):
    @needs(ORACLE)
    def test_every_key_and_value_is_what_an_independent_reader_sees(self):
        count = 0
        for name, data in samples():
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "hive"
                path.write_bytes(data)
                words = ["/usr/bin/python3", "-c", DUMP, str(path)]
                done = subprocess.run(words, check=True, capture_output=True, text=True)
                mine = sorted(rows(data))
                self.assertEqual(mine, sorted(done.stdout.splitlines()))
                count += len(mine)
        self.assertGreater(count, 250_000)

    def test_sound_hives_have_no_problems_and_a_path_is_found_at_once(self):
        for name, data in samples():
            self.assertEqual(Hive(data).check(), (), name)
        system = Hive(dict(samples())["dissect.regf: SYSTEM.gz"])
        began = time.process_time()
        current = system.root.child("Select").number("Current")
        services = system.find(f"ControlSet{current:03d}\\services")
        self.assertIsNotNone(services.child("DISK"))
        self.assertIsNone(services.child("no such service"))
        self.assertLess(time.process_time() - began, SECOND)

    def test_each_damaged_byte_of_the_base_block_and_of_a_bins_head_is_found(self):
        data = small()
        heads = [
            4096 + at for at in range(0, len(data) - 4096, 4096) if data[4096 + at :][:4] == b"hbin"
        ]
        for at in [*range(512), *(head + byte for head in heads[:40] for byte in range(12))]:
            damaged = bytearray(data)
            damaged[at] ^= 0x5A
            self.assertTrue(Hive(bytes(damaged)).check(), at)

    def test_damage_elsewhere_ends_in_our_own_errors_and_in_time(self):
        data, random = small(), Random(9)
        for _ in range(ELSEWHERE):
            damaged = bytearray(data)
            for _ in range(random.choice((1, 3, 40))):
                damaged[random.randrange(512, len(data))] = random.randrange(256)
            began = time.process_time()
            try:
                hive = Hive(bytes(damaged))
                hive.check()
                for _, key in zip(range(400), (key for _, key in walk(hive.root)), strict=False):
                    for value in key.values():
                        hive.data(value)
            except InputError:
                pass
            self.assertLess(time.process_time() - began, SECOND)

    def test_keys_are_found_by_their_mark_whatever_else_is_lost(self):
        for name, data in samples():
            if len(data) > LARGE:
                continue
            kept = {key.at for _, key in walk(Hive(data).root)}
            left = {key.at: key for key in remaining_keys(bytes(4096) + data[4096:])}
            self.assertLessEqual(kept, set(left), name)
            chance = Random(len(data))
            for _ in range(5):
                hurt = bytearray(data)
                for _ in range(200):
                    hurt[chance.randrange(len(hurt))] = chance.randrange(256)
                for key in remaining_keys(bytes(hurt)):
                    with contextlib.suppress(DamagedHiveError):
                        list(key.values())
                        list(key.children())

    def test_what_damage_hides_is_never_called_missing(self):
        data = bytearray(small())
        hive = Hive(bytes(data))
        software = hive.find("Software")
        list_at = 4096 + software.cell.subkey_list + 4
        data[list_at : list_at + 2] = b"xx"
        damaged = Hive(bytes(data))
        with self.assertRaises(DamagedHiveError):
            damaged.find("Software\\anything")
        self.assertIsNotNone(damaged.find("Control Panel"))

    def test_a_write_that_was_cut_off_is_finished_from_either_kind_of_log(self):
        data = small()
        base = hives.BASE.read(hives.Window(data[:4096]))
        for build in (map_log, entry_log):
            hive, log = build(data, base)
            broken = Hive(hive)
            self.assertTrue(
                {"write-unfinished", "bin-magic"} <= {each.code for each in broken.check()}
            )
            after = replayed(hive, [b"", log])
            self.assertEqual((after.applied, after.is_whole, after.problems), (1, True, ()))
            self.assertEqual(Hive(after.data).check(), ())
            self.assertEqual(sorted(rows(after.data)), sorted(rows(data)))
            self.assertFalse(replayed(hive, []).is_whole)
            older = head_of(base, base.first - 5) + log[512:]
            self.assertEqual(replayed(hive, [older]).applied, 0)
            torn = bytearray(log)
            torn[600 if build is entry_log else 4] ^= 1
            self.assertEqual(replayed(hive, [bytes(torn)]).applied, 0)


@needs_samples("dfwinreg-source")
class RealLog(unittest.TestCase):
    """A log that a real system wrote, replayed by us and by an independent program."""

    def replayed_by_others(self, hive, log):
        primary = io.BytesIO(hive)
        RegistryLog.RegistryLog(primary, io.BytesIO(log)).recover_hive()
        return primary.getvalue()

    def test_its_writes_end_as_an_independent_program_ends_them(self):
        found = dict(read_samples("dfwinreg-source", "NTUSER.DAT*"))
        whole, log = found["NTUSER.DAT"], found["NTUSER.DAT.LOG"]
        base = hives.BASE.read(hives.Window(whole[:4096]))
        (entry,), problems = hives.entries(log, base.bins)
        self.assertEqual((entry.sequence, problems), (base.first - 1, []))
        for changed in ((0,), (0, 1)):
            broken = bytearray(whole)
            for number in changed:
                at, page = entry.pages[number]
                broken[4096 + at : 4096 + at + len(page)] = bytes(len(page))
            broken[4:12] = struct.pack("<II", base.first, base.first - 1)
            broken[508:512] = hives.checksum(bytes(broken[:512])).to_bytes(4, "little")
            after = replayed(bytes(broken), [log])
            self.assertEqual((after.applied, after.is_whole), (1, True))
            theirs = self.replayed_by_others(bytes(broken), log)
            self.assertEqual(after.data[4096:], theirs[4096:])
            self.assertEqual(Hive(after.data).check(), ())

    def test_logs_of_our_own_making_end_the_same(self):
        data = small()
        base = hives.BASE.read(hives.Window(data[:4096]))
        broken, log = entry_log(data, base)
        theirs = self.replayed_by_others(broken, log)
        self.assertEqual(replayed(broken, [log]).data[4096:], theirs[4096:])

    def test_a_real_hive_that_was_left_dirty_is_said_to_be(self):
        system = dict(read_samples("dfwinreg-source", "SYSTEM"))["SYSTEM"]
        self.assertIn("write-unfinished", {each.code for each in Hive(system).check()})
        self.assertFalse(replayed(system, []).is_whole)


def head_of(base, number, kind=6):
    """A base block of a log, by the written format."""
    fields = {name: getattr(base, name) for name in hives.BASE.rows}
    fields |= {"first": number, "second": number, "kind": kind, "checksum": 0}
    head = hives.BASE.patch(bytes(44) + b"\1" + bytes(467), **fields)
    return head[:508] + hives.checksum(head).to_bytes(4, "little")


def cut_off(data, base):
    """A hive of which two pages were lost in a write."""
    hive = bytearray(data)
    hive[4096:8192] = bytes(4096)
    hive[4096 * 3 : 4096 * 4] = b"\xee" * 4096
    hive[4:12] = (base.first + 1).to_bytes(4, "little") + base.second.to_bytes(4, "little")
    hive[508:512] = hives.checksum(bytes(hive[:512])).to_bytes(4, "little")
    return bytes(hive)


def map_log(data, base):
    bins = data[4096:]
    marks = bytearray(-(-base.bins // 512 // 8))
    marks[0], marks[2] = 0xFF, 0xFF
    body = b"DIRT" + bytes(marks)
    body = body.ljust(-(-len(body) // 512) * 512, b"\0") + bins[:4096] + bins[8192:12288]
    return cut_off(data, base), head_of(base, base.first + 1, kind=1) + body


def entry_log(data, base):
    bins, number = data[4096:], base.first + 1
    pages = ((0, bins[:4096]), (8192, bins[8192:12288]))
    body = b"".join(at.to_bytes(4, "little") + (4096).to_bytes(4, "little") for at, _ in pages)
    body += b"".join(page for _, page in pages)
    body = body.ljust(-(-(40 + len(body)) // 512) * 512 - 40, b"\0")
    rows_of_head = (40 + len(body), 0, number, base.bins, len(pages))
    head = b"HvLE" + b"".join(row.to_bytes(4, "little") for row in rows_of_head)
    head += hives.marvin32(body).to_bytes(8, "little")
    head += hives.marvin32(head).to_bytes(8, "little")
    return cut_off(data, base), head_of(base, number) + head + body


class Checksums(unittest.TestCase):
    def test_an_entry_of_a_real_log_has_the_checksum_that_its_system_wrote(self):
        self.assertEqual(hives.marvin32(REAL_LOG_HEAD), REAL_LOG_SUM)

    @given(st.binary(max_size=2000))
    def test_any_bytes_are_read_as_a_log(self, data):
        found, problems = hives.entries(bytes(512) + data, 4096)
        self.assertLessEqual(len(found) + len(problems), 2 + len(data) // 512)


if __name__ == "__main__":
    unittest.main()
