"""Disks of the darwin family: real containers, and what is said of a disk that only firmware of its
own starts.
"""

import struct
import unittest
import uuid

from mending.disk.volume.info import contained_volumes
from mending.formats import gpt
from mending.model import fletcher64
from mending.source import MemorySource
from mending.workshop.disks import DISK_GUID, SECTOR, ImageDraft, put_desk, put_guid_table
from tests.samples import needs_samples, read_samples
from tests.support import InFolder, ids, trace_file

CONTAINER = uuid.UUID("7c3457ef-0000-11aa-aa11-00306543ecac")
START = 83_968
SYSTEM_ROLE = 1


def sample(name):
    return dict(read_samples("dissect.apfs", "_data/*"))[name]


def with_role(data, role):
    """A container whose volumes have a role, each with its checksum."""
    changed, at = bytearray(data), data.find(b"APSB")
    while at >= 0:
        start = at - 32
        if start % 4096 == 0:
            changed[start + 964 : start + 966] = struct.pack("<H", role)
            total = fletcher64(bytes(changed[start + 8 : start + 4096]))
            changed[start : start + 8] = total.to_bytes(8, "little")
        at = data.find(b"APSB", at + 1)
    return bytes(changed)


@needs_samples("dissect.apfs")
class Containers(InFolder):
    def test_volumes_of_real_containers_are_told(self):
        told = {
            name: [each.name for each in contained_volumes(MemorySource(data), 0)]
            for name, data in read_samples("dissect.apfs", "_data/*")
        }
        self.assertEqual(told["case_sensitive.bin.gz"], ["Case Sensitive"])
        self.assertEqual(told["snapshot.bin.gz"], ["Snapshots"])
        self.assertEqual(told["encrypted.bin.gz"], ["Encrypted"])
        (locked,) = contained_volumes(MemorySource(sample("encrypted.bin.gz")), 0)
        self.assertTrue(locked.is_encrypted)

    def test_damage_hides_names_and_nothing_else(self):
        whole = sample("case_sensitive.bin.gz")
        for at in range(0, 64 * 4096, 997):
            data = bytearray(whole)
            data[at] ^= 0xFF
            for volume in contained_volumes(MemorySource(bytes(data)), 0):
                self.assertEqual(volume.name, "Case Sensitive")

    def disk(self, container, loader=None):
        draft = ImageDraft((START + 16_384 + 100) * SECTOR)
        parts = [
            (gpt.EFI_SYSTEM, 2048, 81_920, "EFI"),
            (CONTAINER, START, len(container) // SECTOR, "harbour"),
        ]
        put_guid_table(draft, DISK_GUID, parts)
        put_desk(draft, "EFI", {"EFI/BOOT/BOOTX64.EFI": loader} if loader else {})
        draft.put(START * SECTOR, container)
        path = self.folder / "darwin.img"
        draft.save(path)
        return path

    def test_a_system_of_the_family_needs_nothing_on_the_esp_and_is_unsure(self):
        data = with_role(sample("case_sensitive.bin.gz"), SYSTEM_ROLE)
        trace = trace_file(self.disk(data))
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("unsure", []))
        self.assertIn("Case Sensitive (system)", trace.unread.says)
        self.assertIn("cannot be checked from outside", trace.unread.says)
        self.assertEqual(
            [(system.family, system.title) for system in trace.systems],
            [("darwin", "Case Sensitive")],
        )

    def test_a_container_without_a_system_lets_nothing_pass(self):
        trace = trace_file(self.disk(sample("case_sensitive.bin.gz")))
        self.assertEqual(ids(trace, "fatal"), ["efi-loader-missing"])
        self.assertEqual(trace.volumes[1].contained, ("Case Sensitive",))


if __name__ == "__main__":
    unittest.main()
