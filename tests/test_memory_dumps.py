"""Dumps of memory: drivers and stack found by walking page tables. Made here, for no system of this
family runs here; the layout is written down a second time, apart from the reader.
"""

import struct
import unittest
from random import Random

from mending.crash.read import Reader
from mending.formats.dumps import DumpMemory
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from mending.workshop.histories import DumpDraft

PAGE, LARGE = 4096, 2 << 20
BASE = 0xFFFFF80000000000
FAR = BASE + 5 * LARGE
HEAD, ENTRIES, STACK = BASE + 0x100, BASE + 0x1000, BASE + 0x8000
GUILTY = 0xFFFFF80010000000
DRIVERS = (
    ("kernel.exe", 0xFFFFF80003000000, 0x800000),
    ("layer.dll", 0xFFFFF80003900000, 0x80000),
    ("quaybus.sys", 0xFFFFF80008000000, 0x20000),
    ("slipprint.sys", GUILTY, 0x30000),
)
READER = Reader(base_codes(), base_events())


class Memory:
    """Pages of memory by number, with tables that map the kernel's first megabyte and a large
    page.
    """

    def __init__(self):
        self.pages = {}
        for table, index, entry in ((1, 496, 2), (2, 0, 3), (3, 0, 4)):
            self.entry(table, index, entry * PAGE | 3)
        for number in range(64):
            self.entry(4, number, (16 + number) * PAGE | 3)
        self.entry(3, 5, 512 * PAGE | 0x83)

    def entry(self, page, index, value):
        struct.pack_into("<Q", self.page(page), index * 8, value)

    def page(self, number):
        return self.pages.setdefault(number, bytearray(PAGE))

    def put(self, address, data):
        for at, byte in enumerate(data, address):
            number = 512 + (at - FAR) // PAGE if at >= FAR else 16 + (at - BASE) // PAGE
            self.page(number)[at % PAGE] = byte


def memory(drivers=DRIVERS):
    made, places = Memory(), [ENTRIES + number * 0x200 for number in range(len(drivers))]
    made.put(HEAD, struct.pack("<QQ", (places or [HEAD])[0], 0))
    for number, (name, base, size) in enumerate(drivers):
        following = places[number + 1] if number + 1 < len(places) else HEAD
        text = name.encode("utf-16-le")
        row = struct.pack("<Q", following).ljust(0x30, b"\0") + struct.pack("<QQI", base, 0, size)
        row = row.ljust(0x58, b"\0") + struct.pack(
            "<HHIQ", len(text), len(text), 0, FAR + number * 64
        )
        made.put(places[number], row.ljust(0xA0, b"\0"))
        made.put(FAR + number * 64, text)
    for number in range(64):
        made.put(STACK + number * 8, struct.pack("<Q", GUILTY + 0x500 if number % 9 == 4 else 7))
    return made


def dump(made, kind):
    """A file: of runs of pages, or with a bitmap of them."""
    fault = (0xC0000005, GUILTY + 0x1234)
    draft = DumpDraft(
        64, 0xD1, (8, 2, 0, GUILTY + 0x1234), (), (), fault, GUILTY + 0x1234, kind=kind
    )
    head = bytearray(draft.encode())
    struct.pack_into("<Q", head, 0x10, 1 * PAGE)
    struct.pack_into("<Q", head, 0x20, HEAD)
    struct.pack_into("<Q", head, 0x348 + 0x98, STACK)
    numbers = sorted(made.pages)
    if kind == 1:
        runs = []
        for number in numbers:
            if runs and sum(runs[-1]) == number:
                runs[-1][1] += 1
            else:
                runs.append([number, 1])
        struct.pack_into("<IIQ", head, 0x88, len(runs), 0, len(numbers))
        struct.pack_into(f"<{2 * len(runs)}Q", head, 0x98, *(each for run in runs for each in run))
        rest = b""
    else:
        bits = bytearray(20_000)
        for number in numbers:
            bits[number // 8] |= 1 << number % 8
        first = 0x2000 + 0x38 + len(bits)
        first += -first % PAGE
        block = b"SDMPDUMP".ljust(0x20, b"\0")
        block += struct.pack("<QQQ", first, len(numbers), len(bits) * 8)
        rest = (block + bits).ljust(first - 0x2000, b"\0")
    return bytes(head) + rest + b"".join(bytes(made.pages[number]) for number in numbers)


LOW = 0x80000000
LOW_GUILTY = 0x8A000000


def low_memory(longer):
    """The same for 32 bits, with short or longer addresses of memory: pages by number."""
    pages = {}

    def entry(page, index, value, form, first=0):
        row = pages.setdefault(page, bytearray(PAGE))
        struct.pack_into(form, row, first + index * struct.calcsize(form), value)

    large, form = (2 << 20, "<Q") if longer else (4 << 20, "<I")
    if longer:
        entry(1, 2, 2 * PAGE | 1, form, first=0x20)
    top = 2 if longer else 1
    first = 0 if longer else LOW // large
    entry(top, first, 4 * PAGE | 3, form)
    entry(top, first + 5, (8 * large) | 0x83, form)
    for number in range(64):
        entry(4, number, (16 + number) * PAGE | 3, form)

    def put(address, data):
        for at, byte in enumerate(data, address):
            far = at - LOW - 5 * large
            number = (8 * large + far) // PAGE if far >= 0 else 16 + (at - LOW) // PAGE
            pages.setdefault(number, bytearray(PAGE))[at % PAGE] = byte

    far, head = LOW + 5 * large, LOW + 0x100
    drivers = (
        ("kernel.exe", LOW + 0x400000, 0x200000),
        ("layer.dll", LOW + 0x700000, 0x40000),
        ("slipprint.sys", LOW_GUILTY, 0x30000),
    )
    places = [LOW + 0x1000, LOW + 0x1200, LOW + 0x1400]
    put(head, struct.pack("<II", places[0], 0))
    for number, (name, base, size) in enumerate(drivers):
        text = name.encode("utf-16-le")
        row = struct.pack("<I", [*places[1:], head][number]).ljust(0x18, b"\0")
        row += struct.pack("<III", base, 0, size)
        row = row.ljust(0x2C, b"\0") + struct.pack("<HHI", len(text), len(text), far + number * 64)
        put(places[number], row.ljust(0x44, b"\0") + struct.pack("<I", 1_700_000_000))
        put(far + number * 64, text)
    for number in range(32):
        put(LOW + 0x8000 + number * 4, struct.pack("<I", LOW_GUILTY + 0x80 if number == 9 else 7))
    return pages


def older(head, pages, words, header):
    """A kernel dump of the older kind: its words, one behind the other, then the bitmap."""
    numbers = sorted(pages)
    bits = bytearray(20_004)
    for number in numbers:
        bits[number // 8] |= 1 << number % 8
    first = header + 0x40 + len(bits)
    first += -first % PAGE
    told = {"first": first, "bits": len(bits) * 8, "pages": len(numbers), "none": 0}
    block = b"SDMPDUMP" + b"".join(struct.pack("<I", told[word]) for word in words)
    block = (block + bits).ljust(first - header, b"\0")
    return bytes(head) + block + b"".join(bytes(pages[number]) for number in numbers)


def low_dump(pages, longer):
    fault = (0xC0000005, LOW_GUILTY + 0x1234)
    code = (8, 2, 0, LOW_GUILTY + 0x1234)
    draft = DumpDraft(32, 0xD1, code, (), (), fault, LOW_GUILTY + 0x1234, kind=1)
    head = bytearray(draft.encode())
    struct.pack_into("<I", head, 0x10, PAGE + (0x20 if longer else 0))
    struct.pack_into("<I", head, 0x18, LOW + 0x100)
    head[0x5C] = longer
    struct.pack_into("<I", head, 0x320 + 0xC4, LOW + 0x8000)
    numbers = sorted(pages)
    runs = []
    for number in numbers:
        if runs and sum(runs[-1]) == number:
            runs[-1][1] += 1
        else:
            runs.append([number, 1])
    struct.pack_into("<II", head, 0x64, len(runs), len(numbers))
    struct.pack_into(f"<{2 * len(runs)}I", head, 0x6C, *(each for run in runs for each in run))
    return bytes(head) + b"".join(bytes(pages[number]) for number in numbers)


def crash_in(data):
    ((crash,),) = (read.crashes for read in READER.read("memory.dmp", MemorySource(data), 0.0))
    return crash


class Walked(unittest.TestCase):
    def test_the_guilty_driver_by_runs_and_by_a_bitmap(self):
        for kind, named in ((1, "full"), (5, "full"), (6, "kernel")):
            crash = crash_in(dump(memory(), kind))
            self.assertEqual(crash.module, "slipprint.sys", named)
            self.assertTrue(crash.marks[0].startswith(f"{named} dump of 64 bits"), crash.marks)
            self.assertIn("4 drivers were loaded", crash.marks)
            self.assertIn("it is on the stack (", crash.modules[0].why)

    def test_whole_dumps_of_32_bits_with_short_and_with_longer_addresses(self):
        for longer in (False, True):
            data = low_dump(low_memory(longer), longer)
            crash = crash_in(data)
            self.assertEqual(crash.module, "slipprint.sys", longer)
            self.assertTrue(crash.marks[0].startswith("full dump of 32 bits"), crash.marks)
            self.assertIn("3 drivers were loaded", crash.marks)
            self.assertIn("it is on the stack", crash.modules[0].why)
            found = DumpMemory(lambda at, length, data=data: data[at : at + length], 1, 32)
            self.assertEqual(found.translated(LOW + 0x3123), 19 * PAGE + 0x123)
            self.assertIsNone(found.translated(LOW + 64 * PAGE))
            self.assertIsNone(found.translated(0x1000))
            self.assertEqual(found.modules(LOW + 0x100)[2].built, 1_700_000_000)
            other = bytearray(data)
            other[0x5C] = not longer  # the header's word decides how tables are read
            self.assertEqual(crash_in(bytes(other)).modules, ())

    def test_older_kernel_dumps_by_what_must_hold(self):
        orders = (("first", "bits", "pages", "none", "bits"), ("none", "pages", "first", "bits"))
        for words in orders:
            head = bytearray(dump(memory(), 6)[:0x2000])
            head[0xF98] = 2
            data = older(head, memory().pages, words, 0x2000)
            crash = crash_in(data)
            self.assertEqual(crash.module, "slipprint.sys", words)
            self.assertTrue(crash.marks[0].startswith("kernel dump of 64 bits"), crash.marks)
            head = bytearray(low_dump(low_memory(True), True)[:0x1000])
            head[0xF88] = 2
            low = older(head, low_memory(True), words, 0x1000)
            self.assertEqual(crash_in(low).module, "slipprint.sys", words)
            self.assertEqual(crash_in(low + bytes(PAGE)).modules, ())  # one page too many
            hurt = bytearray(data)
            hurt[0x2000 + 0x400] ^= 1  # one bit more than there are pages
            self.assertEqual(crash_in(bytes(hurt)).modules, ())

    def test_what_the_dump_does_not_hold_ends_the_list(self):
        made = memory()
        del made.pages[512]  # the names
        self.assertEqual({module.name for module in crash_in(dump(made, 6)).modules}, {"no name"})
        del made.pages[17]  # the entries
        self.assertEqual(crash_in(dump(made, 6)).modules, ())
        del made.pages[2]  # a table
        self.assertEqual(crash_in(dump(made, 1)).modules, ())

    def test_a_list_in_a_circle_and_one_without_end(self):
        made = memory()
        made.put(ENTRIES + 0x200, struct.pack("<Q", ENTRIES))
        data = dump(made, 6)
        found = DumpMemory(lambda at, length: data[at : at + length], 6)
        self.assertEqual([row.name for row in found.modules(HEAD)], ["kernel.exe", "layer.dll"])

    def test_addresses_are_translated_as_the_tables_have_it(self):
        data = dump(memory(), 5)
        found = DumpMemory(lambda at, length: data[at : at + length], 5)
        for address, place in (
            (BASE + 0x3123, 19 * PAGE + 0x123),
            (FAR + 0x1FFFFF, 512 * PAGE + 0x1FFFFF),
            (BASE + 64 * PAGE, None),
            (BASE + 6 * LARGE, None),
            (0x1000, None),
        ):
            self.assertEqual(found.translated(address), place, hex(address))
        self.assertEqual(
            found.read(BASE + 0xFFE, 4), found.read(BASE + 0xFFE, 2) + found.read(ENTRIES, 2)
        )

    def test_damage_anywhere_is_our_own_error_or_fewer_drivers(self):
        random = Random(6)
        low = low_dump(low_memory(True), True)
        head = bytearray(dump(memory(), 6)[:0x2000])
        head[0xF98] = 2
        old = older(head, memory().pages, ("first", "bits", "pages"), 0x2000)
        for whole in (dump(memory(), 1), dump(memory(), 6), low, old):
            for _ in range(300):
                hurt = bytearray(whole)
                for _ in range(random.choice((1, 3, 40))):
                    place = random.choice((random.randrange(0x400), random.randrange(len(hurt))))
                    hurt[place] = random.choice((0, 1, 0x7F, 0xFF, random.randrange(256)))
                cut = random.choice((len(hurt), len(hurt), random.randrange(0x2000, len(hurt))))
                READER.read("memory.dmp", MemorySource(bytes(hurt[:cut])), 0.0)


if __name__ == "__main__":
    unittest.main()
