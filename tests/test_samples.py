"""Real volumes of systems that cannot run here, as registry packages ship them."""

import unittest

from mending.boot.trace import trace_target
from mending.disk.layout import survey
from mending.disk.system import read_contents
from mending.source import MemorySource
from tests.samples import needs_samples, read_samples
from tests.support import ids

HARMLESS = {
    "boot-signature-missing",
    "volume-boot-code-blank",
    "volume-not-bootable",
    "volume-encrypted",
}
HARMLESS |= {
    "hidden-sectors-differ",
    "first-file-missing",
    "volume-not-checked",
    "backup-boot-sector-damaged",
}
HARMLESS |= {"hidden-sectors-wrong", "first-file-not-checked"}
"""What is true of a single volume that was cut out of its disk: nothing can start from it."""


class Samples(unittest.TestCase):
    def volumes(self, package, pattern, least, harmless=HARMLESS):
        """Every sample as a disk that it fills: its volume, what it says of itself, and no
        alarm.
        """
        seen = []
        for name, data in read_samples(package, pattern):
            with self.subTest(name):
                source = MemorySource(data)
                self.assertEqual(set(ids(trace_target(source))) - harmless, set())
                disk = survey(source)
                self.assertEqual([volume.start for volume in disk.volumes], [0])
                inside = read_contents(source, disk.volumes[0])
                self.assertEqual(inside.info.problems, ())
                seen.append((name, disk.volumes[0], inside.info))
        self.assertGreaterEqual(len(seen), least)
        return seen

    @needs_samples("dissect.apfs")
    def test_apfs_containers_with_their_checksum(self):
        for _, volume, facts in self.volumes("dissect.apfs", "_data/*.bin.gz", 7):
            self.assertEqual(volume.filesystem, "apfs")
            self.assertLess(abs(facts.bytes - volume.bytes), 4096)

    @needs_samples("dissect.btrfs", "dissect.xfs")
    def test_btrfs_and_xfs_with_their_checksums(self):
        _, volume, facts = self.volumes("dissect.btrfs", "_data/btrfs-default.bin.gz", 1)[0]
        self.assertEqual(
            (volume.filesystem, facts.bytes, facts.state), ("btrfs", volume.bytes, "clean")
        )
        for name, volume, facts in self.volumes("dissect.xfs", "_data/*.bin.gz", 5):
            self.assertEqual((volume.filesystem, facts.bytes), ("xfs", volume.bytes), name)
            self.assertLess(facts.used, facts.bytes)

    @needs_samples("dissect.fat")
    def test_fat_and_exfat(self):
        labels = {
            name: (one.filesystem, facts.label)
            for name, one, facts in self.volumes("dissect.fat", "data/*.bin", 5)
        }
        self.assertEqual(labels["fat12.bin"], ("fat12", "VOLLAB1"))
        self.assertEqual(labels["fat16.bin"], ("fat16", "LABFAT16"))
        self.assertEqual(labels["fat32.bin"], ("fat32", "LABFAT32"))
        self.assertEqual(labels["exfat.bin"], ("exfat", "THESIS"))

    @needs_samples("dissect.ntfs")
    def test_ntfs(self):
        _, volume, facts = self.volumes("dissect.ntfs", "_data/ntfs.bin.gz", 1)[0]
        self.assertEqual(
            (volume.filesystem, facts.label, facts.state), ("ntfs", "New Volume", "clean")
        )
        self.assertLess(facts.used, facts.bytes)

    @needs_samples("dissect.fve")
    def test_encrypted_volumes_of_three_kinds(self):
        for _, volume, facts in self.volumes("dissect.fve", "_data/luks*/*.bin.gz", 9):
            self.assertEqual(
                (volume.filesystem, volume.encrypted, len(facts.identifier)), ("luks", True, 36)
            )
        cut = HARMLESS | {
            "file-table-damaged"
        }  # those that open by themselves: samples are cut off
        for _, volume, facts in self.volumes("dissect.fve", "_data/b*/*.bin.gz", 10, cut):
            self.assertEqual((volume.filesystem, volume.encrypted), ("encrypted", True))
            self.assertTrue(facts.locks)

    @needs_samples("dissect.volume")
    def test_physical_volumes_with_their_checksum(self):
        groups = set()
        for _, volume, facts in self.volumes("dissect.volume", "_data/lvm/*.bin.gz", 3):
            self.assertEqual((volume.filesystem, len(facts.identifier)), ("lvm", 38))
            self.assertEqual(facts.bytes, volume.bytes)
            groups.add((facts.group, facts.logical[0]))
        wanted = {
            ("lvm-mirror", "lvm--mirror-mirrormirror"),
            ("lvm-thin", "lvm--thin-data"),
            ("vg_test", "vg_test-lv_test"),
        }
        self.assertEqual(groups, wanted)

    @needs_samples("dissect.volume")
    def test_tables_that_other_systems_wrote(self):
        kinds = {
            name: survey(MemorySource(data)).scheme
            for name, data in read_samples("dissect.volume", "_data/disk/*.bin")
        }
        self.assertEqual(
            {kinds[name] for name in ("gpt.bin", "gpt_esxi.bin", "gpt_hybrid.bin", "gpt_4k.bin")},
            {"gpt"},
        )
        self.assertEqual(kinds["mbr.bin"], "mbr")


if __name__ == "__main__":
    unittest.main()
