"""Two of the kinds of systems that `tests.kinds` makes, two faults each; the others, and their
starts, are tried by `make kinds`.
"""

import shutil
import tempfile
import unittest
from pathlib import Path

from tests import kinds
from tests.real import needs_real
from tests.support import EVERY, needs, needs_mounts

TRIED = {
    "btrfs": ("home's subvolume is gone", "wrong root subvolume"),
    "extlinux": ("the module is gone", "fstab wants a volume that is gone"),
}


@needs_mounts
@needs("sfdisk", "mke2fs", "mkfs.btrfs", "btrfs", "grub-mkimage", "extlinux", "zstd", "cpio")
class Kinds(unittest.TestCase):
    def setUp(self):
        home, kinds.HOME = kinds.HOME, Path(tempfile.mkdtemp())
        self.addCleanup(setattr, kinds, "HOME", home)
        self.addCleanup(shutil.rmtree, kinds.HOME)

    @needs_real
    def test_each_is_judged_right_and_mended_from_what_lies_on_it(self):
        for kind, names in TRIED.items():
            disk = kinds.made(kind)
            said = kinds.try_sound(disk, start=EVERY)
            self.assertTrue(said["right"] and said["left alone"], said)
            for fault in kinds.FAULTS[kind]:
                if fault.name not in names:
                    continue
                with self.subTest(kind, fault=fault.name):
                    said = kinds.try_fault(disk, fault, start=EVERY)
                    self.assertTrue(said["right"], said)
                    if fault.more is not None:
                        self.assertTrue(said["mended"], said)
                    if EVERY and fault.more is not None:
                        self.assertTrue(said["starts"], said)


if __name__ == "__main__":
    unittest.main()
