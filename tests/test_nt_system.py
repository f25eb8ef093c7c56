"""The system hive of the nt family on whole disks: real hives on volumes of a real driver."""

import lzma
import unittest

from mending.boot.nt.hive_copies import SET
from mending.case.state import CaseState
from mending.case.thinking import facts_of
from mending.disk.files import open_files
from mending.disk.layout import survey
from mending.formats.nt import hive_base
from mending.knowledge import base_pack
from mending.reason import Evidence, believe
from mending.source import MemorySource
from tests.ntfs_volume import (
    COPIES,
    COPY_BYTES,
    FIRST_SECTOR,
    HIVE,
    HIVE_BYTES,
    LOG,
    LOG_BYTES,
    SYSTEM_FILE,
)
from tests.samples import needs_samples, read_samples
from tests.support import SECTOR, ids, needs, tool, trace_file
from tests.templates import LOADER
from tests.test_hives import cut_off, entry_log, small
from tests.test_nt_family import MAKERS, NtDisks

START, ESP_MIB = FIRST_SECTOR * SECTOR, 36


def real_hive():
    return dict(read_samples("dfwinreg", "SYSTEM"))["SYSTEM"]


def summed(data):
    data[508:512] = hive_base.checksum(bytes(data[:512])).to_bytes(4, "little")
    return bytes(data)


@needs_samples("dissect.ntfs", "dfwinreg")
@needs(*MAKERS, "mkfs.fat", "mmd", "mcopy")
class SystemHive(NtDisks):
    def system_disk(self, hive, log=b"", copies=None):
        """A disk with a system on it, of which only the hive is real. Args: copies: content by name
        in the folder of copies.
        """
        volume = self.filled(lzma.decompress(SYSTEM_FILE.read_bytes()), hive, log, copies)
        return self.disk({"BOOTMGR": self.manager()}, volume=volume)

    def filled(self, volume, hive, log, copies=None):
        """The volume with the contents of hive, log and copies."""
        data = bytearray(volume)
        source = MemorySource(volume)
        files = open_files(source, survey(source).volumes[0])
        folder = HIVE.rpartition("/")[0]
        for name, content, length in (
            (HIVE, hive, HIVE_BYTES),
            (f"{folder}/{LOG}", log, LOG_BYTES),
            *(
                (f"{COPIES}/{name}", content, COPY_BYTES)
                for name, content in (copies or {}).items()
            ),
        ):
            at, content = 0, content.ljust(length, b"\0")
            self.assertEqual(len(content), length)
            for start, count in files.extents(files.find(name)):
                data[start : start + count] = content[at : at + count]
                at += count
        return bytes(data)

    def traced(self, hive, log=b"", copies=None):
        return trace_file(self.system_disk(hive, log, copies))

    def test_a_sound_hive_is_read_and_its_control_set_named(self):
        trace = self.traced(real_hive())
        self.assertEqual((ids(trace, "fatal"), ids(trace, "warning")), ([], []))
        self.assertEqual((trace.verdict, trace.unread.phase), ("unsure", "boot-manager"))
        said = [check.says for check in trace.checks if check.phase == "loader"]
        self.assertIn("ControlSet001", said[0])
        self.assertEqual([system.title for system in trace.systems], ["/ferry"])
        facts = facts_of(CaseState(trace=trace), base_pack())
        self.assertEqual(facts["family"], "nt")
        self.assertNotIn("release-known", facts)  # a folder's name is no release

    def test_what_ends_the_start_is_fatal_in_the_loaders_phase_and_proves_its_cause(self):
        hive = real_hive()
        blank = bytes(4096) + hive[4096:]
        wrong_sum = bytearray(hive)
        wrong_sum[60] ^= 1
        no_root = bytearray(hive)
        root = 4096 + int.from_bytes(hive[36:40], "little")
        no_root[root + 4 : root + 6] = b"xx"
        cut = bytearray(hive)
        cut[40:44] = (len(hive) + 4096).to_bytes(4, "little")
        for says, data in (
            ("blank", blank),
            ("checksum", bytes(wrong_sum)),
            ("root", bytes(no_root)),
            ("cut", summed(cut)),
        ):
            with self.subTest(says):
                trace = self.traced(data)
                self.assertEqual(ids(trace, "fatal"), ["hive-damaged"])
                self.assertEqual(trace.failing_phase, "loader")
                first = believe(base_pack(), Evidence(trace=trace)).causes[0]
                self.assertEqual((first.id, first.proven), ("settings-hive-damaged", True))

    def test_a_control_set_that_is_selected_and_not_there(self):
        hive = bytearray(real_hive())
        name = hive.index(b"ControlSet001")
        hive[name : name + 13] = b"ControlSet009"
        trace = self.traced(bytes(hive))
        self.assertEqual(ids(trace, "fatal"), ["control-set-missing"])
        self.assertIn("selects control set 1", trace.fatal[0].says)
        self.assertIn("ControlSet009", trace.fatal[0].says)

    def test_damage_inside_and_a_write_that_was_cut_off_are_doubts(self):
        hive = bytearray(real_hive())
        places = [at for at in range(4096, len(hive), 4096) if hive[at : at + 4] == b"hbin"]
        hive[places[-1]] ^= 0xFF
        trace = self.traced(bytes(hive))
        self.assertEqual(
            (ids(trace, "fatal"), ids(trace, "warning")), ([], ["hive-damaged-inside"])
        )
        told = next(found for found in trace.findings if found.id == "hive-damaged-inside")
        self.assertEqual(told.where.offset, places[-1])
        unfinished = bytearray(real_hive())
        unfinished[4] += 1
        trace = self.traced(summed(unfinished))
        self.assertEqual((ids(trace, "fatal"), ids(trace, "warning")), ([], ["hive-unfinished"]))

    def test_a_set_of_copies_beside_it_is_judged_as_a_whole(self):
        blank = bytes(4096) + real_hive()[4096:]
        whole = dict.fromkeys(SET, small())
        trace = self.traced(blank, copies=whole)
        self.assertIn("hive-copies-whole", ids(trace, "note"))
        said = next(found.says for found in trace.findings if found.id == "hive-copies-whole")
        self.assertRegex(said, r"keepsake, written 20\d\d-")
        self.assertEqual(facts_of(CaseState(trace=trace), base_pack())["hive-copies"], "yes")
        torn = bytearray(small())
        torn[4] += 1
        for copies in (whole | {"SAM": summed(torn)}, {}):
            trace = self.traced(blank, copies=copies)
            self.assertIn("hive-copies-unfit", ids(trace, "note"))
            self.assertEqual(facts_of(CaseState(trace=trace), base_pack())["hive-copies"], "no")
        sound = self.traced(real_hive(), copies=whole)
        self.assertNotIn("hive-copies-whole", ids(sound))

    def test_a_log_beside_it_finishes_the_write(self):
        hive = real_hive()
        base = hive_base.read(hive_base.Window(hive[:4096])).record
        broken, log = entry_log(hive, base)
        self.assertEqual(broken, cut_off(hive, base))
        self.assertEqual(ids(self.traced(broken), "fatal"), ["hive-damaged"])
        trace = self.traced(broken, log)
        self.assertEqual((ids(trace, "fatal"), ids(trace, "warning")), ([], []))
        said = [check.says for check in trace.checks if check.phase == "loader"]
        self.assertIn("1 writes of its logs included", said[0])


class BehindUefi(SystemHive):
    """The same behind a loader file that is not read further."""

    def system_disk(self, hive, log=b"", copies=None):
        volume = self.filled(lzma.decompress(SYSTEM_FILE.read_bytes()), hive, log, copies)
        esp, image = self.folder / "esp", self.folder / "nt.img"
        with esp.open("wb") as file:
            file.truncate(ESP_MIB << 20)
        tool("mkfs.fat", "-F", "32", esp)
        tool("mmd", "-i", esp, "::EFI", "::EFI/BOOT")
        tool("mcopy", "-i", esp, LOADER, "::EFI/BOOT/BOOTX64.EFI")
        second = FIRST_SECTOR + (ESP_MIB << 20) // SECTOR
        table = (
            f"label: gpt\nstart={FIRST_SECTOR},size={(ESP_MIB << 20) // SECTOR},type=uefi\n"
            f"start={second},size={len(volume) // SECTOR}\n"
        )
        with image.open("wb") as file:
            file.truncate((second + 4096) * SECTOR + len(volume))
        tool("sfdisk", "-q", image, stdin=table)
        with image.open("r+b") as file:
            file.seek(START)
            file.write(esp.read_bytes())
            file.seek(second * SECTOR)
            file.write(volume)
        return image


if __name__ == "__main__":
    unittest.main()
