"""Earlier moments of a volume: two real ones, of an older and a newer system, against an
independent reader, and hostile ones.
"""

import unittest
from random import Random

import pyvshadow

from mending.disk.files import open_files
from mending.disk.layout import survey, volume_at_moment
from mending.disk.shadow import shadow_copies
from mending.formats import shadow_store
from mending.model import InputError, MendingError
from mending.source import MemorySource, open_source
from tests.samples import needs_samples, read_samples
from tests.support import InFolder, Overlaid, needs, tool

MIB = 1 << 20
SAMPLES = "dfvfs-source"
OLDER = "dfvfs"
FILE = "/syslog.gz"


def sample():
    return next(data for _, data in read_samples(SAMPLES, "vss.raw"))


def older_volume(folder):
    """A volume of 1 GiB with two moments, of a system of another time."""
    packed, path = folder / "volume.qcow2", folder / "older.img"
    packed.write_bytes(next(data for _, data in read_samples(OLDER, "vsstest.qcow2")))
    tool("qemu-img", "convert", "-O", "raw", packed, path)
    return path


@needs_samples(SAMPLES)
class Moments(InFolder):
    def test_every_byte_of_every_moment_is_as_the_independent_reader_has_it(self):
        path = self.folder / "volume"
        path.write_bytes(sample())
        self.compare(path)

    @needs_samples(OLDER)
    @needs("qemu-img")
    def test_the_same_of_a_volume_of_an_older_system(self):
        path = older_volume(self.folder)
        self.compare(path)
        volume = self.json_here("trace", path)["volumes"][0]
        times = [(1, "2013-12-03T06:35:10Z"), (2, "2013-12-03T06:37:49Z")]
        self.assertEqual([(each["number"], each["at"]) for each in volume["moments"]], times)

    def compare(self, path):
        theirs = pyvshadow.volume()
        theirs.open(str(path))
        source, random = self.enterContext(open_source(str(path))), Random(2)
        copies = shadow_copies(source, 0, source.size)
        self.assertEqual((len(copies.entries), theirs.number_of_stores), (2, 2))
        for number, entry in enumerate(copies.entries):
            store, mine = theirs.get_store(number), copies.volume(entry)
            self.assertEqual((store.identifier, store.volume_size), (entry.identifier, mine.bytes))
            made = store.get_creation_time_as_integer() / 1e7 - 11_644_473_600
            self.assertAlmostEqual(entry.created, made, 3)
            for at in range(0, mine.bytes, MIB):
                store.seek_offset(at)
                wanted = min(MIB, mine.bytes - at)
                self.assertEqual(mine.read(at, MIB) == store.read_buffer(wanted), True)
            for _ in range(50):
                at, length = random.randrange(mine.bytes), random.randrange(1, 40_000)
                store.seek_offset(at)
                whole = store.read_buffer(min(length, mine.bytes - at))
                self.assertEqual(mine.read(at, length), whole)
            self.assertEqual((mine.read(mine.bytes, 1), mine.read(-1, 1)), (b"", b""))
        theirs.close()

    def test_files_of_a_moment(self):
        source = MemorySource(sample())
        now = survey(source).volumes[0]
        names = {}
        for moment in (None, 1, 2):
            viewed, volume = (
                (source, now) if moment is None else volume_at_moment(source, now, moment)
            )
            files = open_files(viewed, volume)
            names[moment] = {
                each.path: each.bytes
                for each in files.listing("/")
                if not each.path.startswith("/$")
            }
        self.assertNotEqual(names[1], names[2])
        with self.assertRaisesRegex(InputError, "keeps no moment 7; it keeps 1, 2"):
            volume_at_moment(source, now, 7)

    def test_told_by_trace_and_as_points_to_go_back_to(self):
        path = self.folder / "volume.img"
        path.write_bytes(sample())
        volume = self.json_here("trace", path)["volumes"][0]
        times = [(1, "2021-05-01T17:40:03Z"), (2, "2021-05-01T17:41:28Z")]
        self.assertEqual([(each["number"], each["at"]) for each in volume["moments"]], times)
        self.assertIn("keeps 2 earlier moments", self.run_here("trace", path))
        self.assertNotIn("earlier moments", self.run_here("trace", f"{path}@1"))
        points = self.json_here("crashes", path)["restore_points"]
        self.assertEqual([(int(each["id"]), each["at"]) for each in points], times)

    def test_catalogues_and_lists_that_ask_for_anything(self):
        data = sample()
        source, random = Overlaid(data), Random(11)
        copies = shadow_copies(source, 0, len(data))
        places = [shadow_store.HEADER_AT, 0x17E4000]
        for entry in copies.entries:
            places += [entry.blocks, entry.bitmap, entry.earlier_bitmap]
        places = [place for place in places if place]
        for _ in range(600):
            over = {}
            for place in random.sample(places, random.choice((1, 1, 3))):
                hurt = bytearray(data[place : place + 2048])
                for _ in range(random.choice((1, 4))):
                    value = random.choice((0, 1, 0x7F, 0x80, 0xFF, random.randrange(256)))
                    hurt[random.randrange(16, len(hurt))] = value
                over[place] = bytes(hurt)
            source.over = over
            hurt_copies = shadow_copies(source, 0, len(data))
            for entry in hurt_copies.entries:
                try:
                    volume = hurt_copies.volume(entry)
                    for at in (0, 0x1848000, volume.bytes - 5000):
                        self.assertLessEqual(len(volume.read(at, 20_000)), 20_000)
                except MendingError:
                    continue

    def test_a_chain_that_comes_back_to_itself_ends(self):
        data = bytearray(sample())
        data[0x17E4000 + 40 : 0x17E4000 + 48] = (0x17E4000).to_bytes(8, "little")
        self.assertEqual(len(shadow_copies(MemorySource(bytes(data)), 0, len(data)).entries), 2)
        data[0x17E4000] ^= 1
        self.assertEqual(shadow_copies(MemorySource(bytes(data)), 0, len(data)).entries, ())


if __name__ == "__main__":
    unittest.main()
