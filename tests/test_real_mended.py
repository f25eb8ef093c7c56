"""Real systems whose files need new blocks: mended with the driver of their volume, started to the
sign-in prompt, and taken back.
"""

import unittest
from pathlib import Path

from tests.real import ROOT, START, bios_disk, menu, needs_real, version
from tests.support import (
    SECTOR,
    ids,
    mounted,
    needs,
    needs_mounts,
    patch,
    sha,
    tool,
    trace_file,
    tree_of,
)
from tests.test_real_systems import TOOLS, Real

MBR_CODE = Path("/usr/lib/syslinux/mbr/mbr.bin")
LOST = "UUID=5ea00000-0000-4000-8000-0000000000ff /cargo ext4 defaults 0 2\n"
GAP = 600


@needs(*TOOLS, "fuse2fs", MBR_CODE)
@needs_real
@needs_mounts
class Mended(Real):
    def disk(self):
        return bios_disk(self.folder / "pc.img")

    def edit(self, path, *requests):
        volume = f"{path}?offset={START * SECTOR}"
        for request in requests:
            tool("debugfs", "-w", "-R", request, volume)

    def write(self, path, place, text):
        held = self.folder / "held"
        held.write_text(text)
        self.edit(path, f"rm {place}", f"write {held} {place}")

    def test_four_faults_of_files_at_once(self):
        """An entry that names a kernel which was taken off, no init, a mount that nobody has any
        more, no default target.
        """
        path, number = self.disk(), version()
        self.write(path, "/boot/grub/grub.cfg", menu().replace(number, f"{number}-old"))
        self.write(path, "/etc/fstab", (ROOT / "etc/fstab").read_text() + LOST)
        self.edit(path, "unlink /usr/sbin/init", "unlink /usr/lib/systemd/system/default.target")
        before = sha(path)
        with mounted(path, "ext4", START * SECTOR) as top:
            was = tree_of(top)
        trace = trace_file(path)
        self.assertEqual(trace.failing_phase, "loader")
        self.assertIn("kernel-missing", ids(trace, "fatal"))
        done = self.json_here("mend", path, "--all", "--yes", "--mount")
        steps = [step["repair"] for step in done["steps"]]
        wanted = ["entry-kernel", "file-restore", "mount-optional"]
        self.assertEqual((done["after"], sorted(steps)), ("no-fault-found", wanted))
        with mounted(path, "ext4", START * SECTOR) as top:
            now = tree_of(top)
        changed = {name for name in was | now if was.get(name) != now.get(name)}
        self.assertEqual(
            changed,
            {
                "boot/grub/grub.cfg",
                "etc/fstab",
                "usr/sbin/init",
                "usr/lib/systemd/system/default.target",
            },
        )
        mended = self.folder / "mended.img"
        tool("cp", "--sparse=always", path, mended)
        for _ in steps:
            self.run_here("undo", path)
        self.assertEqual(sha(path), before)
        self.starts(mended)

    def test_a_boot_sector_that_a_boot_record_starts(self):
        """The code of a volume is gone, and GRUB's core is a file only: the boot record loads it
        from the gap.
        """
        path = self.disk()
        patch(path, 0, MBR_CODE.read_bytes()[:440])
        patch(path, SECTOR, bytes(GAP * SECTOR))
        self.traced(path, "boot-record", "volume-boot-code-blank")
        self.mended(path, "boot-code")
        self.starts_too(path)


if __name__ == "__main__":
    unittest.main()
