"""Our boot code, executed under unicorn against a small BIOS: what it starts, what it says, what it
hands over.
"""

import struct
import tempfile
import unittest
from pathlib import Path

from mending.boot.rehearse import Stop, rehearse_code
from mending.repair.boot import own_code
from mending.source import MemorySource
from tests.support import needs, tool

ROOM = Path(__file__).parents[1] / "src" / "mending"
AT = 100
HALT = b"\xf4"


def disk(entries, volume=HALT, signed=True, sectors=20000, at=AT):
    """Sector 0 with our code and these (flag, first sector) entries; a volume that just halts."""
    records = b"".join(
        struct.pack("<B3xB3xII", flag, 0x0C, first, 1000) for flag, first in entries
    ).ljust(64, b"\0")
    image = bytearray(sectors << 9)
    image[:512] = own_code() + b"\1\2\3\4\0\0" + records + b"\x55\xaa"
    image[at << 9 : (at << 9) + len(volume)] = volume
    if signed:
        image[(at << 9) + 510 : (at << 9) + 512] = b"\x55\xaa"
    return bytes(image)


def run(image, **how):
    return rehearse_code(MemorySource(image), image[:512], **how)


class Starts(unittest.TestCase):
    def test_it_reads_the_one_active_volume_by_lba_and_hands_over_drive_and_entry(self):
        ran = run(disk([(0, 50), (0x80, AT)]))
        self.assertEqual(
            [(read.lba, read.sectors, read.to, read.by) for read in ran.reads],
            [(AT, 1, 0x7C00, "lba")],
        )
        self.assertEqual(ran.volume_at, {"dl": 0x80, "si": 0x7BE + 16, "ds": 0})
        self.assertEqual((ran.stop, ran.at), (Stop.HALTS, 0x7C00))

    def test_every_place_in_the_table_may_be_the_active_one(self):
        for place in range(4):
            entries = [
                (0x80 if number == place else 0, AT if number == place else 50)
                for number in range(4)
            ]
            self.assertEqual(run(disk(entries)).volume_at["si"], 0x7BE + 16 * place)

    def test_firmware_without_packets_is_asked_by_chs(self):
        for lba in (1, 62, 63, 64, 16064, 16065, 17000):
            ran = run(disk([(0x80, lba)], at=lba), packets=False)
            self.assertEqual([(read.lba, read.by) for read in ran.reads], [(lba, "chs")])
            self.assertIsNotNone(ran.volume_at)

    def test_a_floppys_drive_number_is_corrected(self):
        self.assertEqual(run(disk([(0x80, AT)]), drive=0).volume_at["dl"], 0x80)


class Refuses(unittest.TestCase):
    def assert_says(self, ran, words):
        self.assertIn(words, ran.screen)
        self.assertEqual((ran.stop, ran.volume_at), (Stop.WAITS_FOR_KEY, None))

    def test_no_active_entry(self):
        self.assert_says(run(disk([(0, AT)])), "No entry of the table is active.")
        self.assert_says(run(disk([(0x01, AT), (0x81, AT)])), "No entry of the table is active.")

    def test_two_active_entries(self):
        ran = run(disk([(0x80, AT), (0, 50), (0x80, 50)]))
        self.assert_says(ran, "Two entries of the table are active.")
        self.assertEqual(ran.reads, ())

    def test_a_volume_without_signature(self):
        self.assert_says(
            run(disk([(0x80, AT)], signed=False)), "The active volume has no boot sector."
        )

    def test_a_volume_behind_the_end_is_tried_again_and_then_said(self):
        ran = run(disk([(0x80, 1 << 30)]))
        self.assert_says(ran, "The active volume cannot be read.")
        self.assertEqual({read.by for read in ran.reads}, {"lba"})
        self.assertGreater(len(ran.reads), 1)


class Committed(unittest.TestCase):
    def test_it_leaves_signature_and_table_alone(self):
        self.assertEqual(len(own_code()), 440)

    @needs("nasm")
    def test_every_committed_binary_is_what_its_source_assembles_to(self):
        sources = sorted(ROOM.glob("*/code/*.asm"))
        self.assertGreaterEqual(len(sources), 3)
        for source in sources:
            with tempfile.TemporaryDirectory() as folder, self.subTest(source.name):
                made = Path(folder) / "made.bin"
                tool("nasm", "-f", "bin", "-o", made, source)
                self.assertEqual(made.read_bytes(), source.with_suffix(".bin").read_bytes())


if __name__ == "__main__":
    unittest.main()
