"""Edges of repairs and of the journal, each told by the bytes that are planned: what is written,
what is left, what is refused.
"""

import hashlib
import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace

from mending.disk.layout import identifier_ranges
from mending.model import FileChange, InputError, Patch, ReadError, RefusedError
from mending.repair.base import MendSettings, check_common
from mending.repair.boot import own_code
from mending.repair.journal import ChangeOnFile, _change, put_back
from mending.repair.partition import with_new_entries
from mending.repair.run import examine, preview
from mending.source import MemorySource, fault_of, identity_of
from mending.workshop import BIOS_FAULTS, UEFI_FAULTS, bios_disk, uefi_disk

SECTOR, FLAGS = 512, tuple(0x1BE + 16 * number for number in range(4))
NOTHING = MendSettings()


def memory(draft):
    with tempfile.TemporaryDirectory() as name:
        draft.save(Path(name) / "disk")
        return MemorySource((Path(name) / "disk").read_bytes())


def bios(*faults):
    draft = bios_disk(own_code())
    for fault in faults:
        BIOS_FAULTS[fault](draft)
    return memory(draft)


def uefi(*faults):
    draft = uefi_disk()
    for fault in faults:
        UEFI_FAULTS[fault](draft)
    return memory(draft)


def planned(source, repair):
    return preview(repair, examine(source, NOTHING), NOTHING).proposal


def after(source, proposal):
    """The bytes of a disk with the patches in."""
    data = bytearray(source.read(0, source.size).data)
    for patch in proposal.changes:
        assert data[patch.offset : patch.end] == patch.before
        data[patch.offset : patch.end] = patch.after
    return bytes(data)


class Tables(unittest.TestCase):
    def test_a_missing_signature_is_two_bytes_and_nothing_else(self):
        source = bios("no-signature")
        proposal = planned(source, "partition-table")
        self.assertEqual(
            [(patch.offset, patch.after) for patch in proposal.changes], [(510, b"\x55\xaa")]
        )

    def test_the_active_flag_is_one_byte_80_and_every_other_flag_is_zero(self):
        for fault in ("two-active-entries", "no-active-entry"):
            with self.subTest(fault):
                source = bios(fault)
                data = after(source, planned(source, "active-flag"))
                self.assertEqual([data[at] for at in FLAGS], [0x80, 0, 0, 0])
                whole = source.read(0, source.size).data
                self.assertEqual(data[512:], whole[512:])

    def test_of_two_volumes_that_could_be_started_none_is_chosen(self):
        source = bios("two-active-entries")
        data = bytearray(source.read(0, source.size).data)
        first, second = (
            int.from_bytes(data[at + 8 : at + 12], "little") * SECTOR for at in FLAGS[:2]
        )
        length = second - first
        data[second : second + length] = data[first : first + length]
        data[second + 28 : second + 32] = (second // SECTOR).to_bytes(4, "little")
        with self.assertRaises(RefusedError) as refused:
            planned(MemorySource(bytes(data)), "active-flag")
        self.assertIn("which one is right cannot be told", refused.exception.says)

    def test_a_lost_copy_of_the_gpt_comes_back_bit_for_bit(self):
        sound = uefi().read(0, uefi().size).data
        for fault in ("blank-primary-header", "blank-backup-header", "no-protective-record"):
            with self.subTest(fault):
                source = uefi(fault)
                self.assertEqual(after(source, planned(source, "gpt-copy")), sound)

    def test_an_entry_is_added_in_the_first_free_place_and_only_where_it_is_not_listed(self):
        def slot(first):
            return bytes([1]) * 16 + bytes(16) + first.to_bytes(8, "little") + bytes(88)

        holes = slot(100) + bytes(128) + slot(300) + bytes(128)
        made = with_new_entries(holes, [((300, 5), slot(300)), ((200, 5), slot(200))])
        self.assertEqual(made[:512], slot(100) + slot(200) + slot(300) + bytes(128))
        only_last = bytes(15) + b"\x01" + bytes(112)
        made = with_new_entries(only_last, [((200, 5), slot(200))])
        self.assertEqual(made[:256], only_last + slot(200))


class Known(unittest.TestCase):
    def test_a_disk_is_known_by_both_headers_of_its_table_and_by_every_volume(self):
        source = uefi()
        parts = {
            (part.offset, part.length)
            for part in identifier_ranges(examine(source, NOTHING).environment.disk)
        }
        ends = {(sector * SECTOR + 56, 16) for sector in (1, source.size // SECTOR - 1)}
        serials = {(lba * SECTOR + 67, 4) for lba in (2048, 83_968)}
        self.assertLessEqual(ends | serials, parts)

    def test_a_change_that_ends_where_an_identifier_begins_leaves_it(self):
        source = uefi()
        disk = examine(source, NOTHING).environment.disk
        at = SECTOR + 56
        for offset, length, kept in (
            (at - 4, 4, True),
            (at - 4, 5, False),
            (at + 16, 4, True),
            (at + 15, 4, False),
        ):
            before = source.read(offset, length).data
            change = Patch(offset, before, bytes(length), "a range")
            known = identity_of(source, [change], identifier_ranges(disk))
            ranges = {each.offset for each in known.ranges if each.identifier}
            self.assertEqual(at in ranges, kept, offset)

    def test_another_identifier_alone_makes_it_another_disk(self):
        source = uefi()
        known = identity_of(
            source, [], identifier_ranges(examine(source, NOTHING).environment.disk)
        )
        data = bytearray(source.read(0, source.size).data)
        self.assertEqual(fault_of(known, MemorySource(bytes(data))), ("", False, False))
        data[2048 * SECTOR + 67] ^= 1
        self.assertEqual(
            fault_of(known, MemorySource(bytes(data))), ("its identifiers are others", False, False)
        )


class Points(unittest.TestCase):
    def test_changes_touch_where_their_ranges_overlap_or_their_files_are_the_same(self):
        def change(offset, length, path=""):
            return ChangeOnFile(offset, length, "", "", "", path)

        for first, second, touch in (
            (change(0, 10), change(10, 5), False),
            (change(0, 11), change(10, 5), True),
            (change(0, 0, "/etc/fstab"), change(0, 0, "/etc/fstab"), True),
            (change(0, 0, "/etc/fstab"), change(0, 0, "/etc/hosts"), False),
            (change(0, 10), change(0, 10, "/etc/fstab"), False),
        ):
            self.assertEqual(first.touches(second), touch)
            self.assertEqual(second.touches(first), touch)

    def test_kept_bytes_of_another_length_are_not_used(self):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for before, put in ((b"four", b"longer"), (b"longer", b"four")):
                (folder / "before-0.bin").write_bytes(before)
                (folder / "after-0.bin").write_bytes(put)
                digests = (hashlib.sha256(data).hexdigest() for data in (before, put))
                with self.assertRaises(InputError):
                    _change(folder, 0, ChangeOnFile(0, 4, "a range", *digests))

    def test_what_cannot_be_read_is_put_back_whatever_stood_there(self):
        written = []

        class Deaf:
            def current(self, change):
                if not written:
                    raise ReadError("a bad sector", 0, 512)
                return change.after

            def apply(self, changes):
                written.extend(changes)

        for before in (b"old", None):
            written.clear()
            put_back(Deaf(), [FileChange("/etc/fstab", before, b"new", "a file")])
            self.assertEqual([change.after for change in written], [before])


class Guards(unittest.TestCase):
    def test_a_changed_boot_chain_of_an_encrypted_volume_needs_the_key_at_hand(self):
        for encrypted, at_hand, refused in (
            (True, False, True),
            (True, True, False),
            (False, False, False),
            (False, True, False),
        ):
            disk = SimpleNamespace(volumes=[SimpleNamespace(number=1, encrypted=encrypted)])
            settings = MendSettings(key_at_hand=at_hand)
            if refused:
                with self.assertRaises(RefusedError):
                    check_common(disk, settings)
            else:
                check_common(disk, settings)


if __name__ == "__main__":
    unittest.main()
