"""Logical volumes: groups of the real programs, on whole disks with a Linux system in them."""

import gzip
import re
import unittest
import uuid

from mending.boot.trace import open_environment
from mending.disk.files import open_files
from mending.formats import arrays, gpt
from mending.source import Stripes, open_source
from mending.source.stitched import BEHIND
from mending.workshop.disks import (
    DISK_GUID,
    DISK_SECTORS,
    SECTOR,
    ImageDraft,
    _template,
    put_desk,
    put_guid_table,
)
from tests.lvm_groups import GROUP, GROUPS, MIB, heads, placed
from tests.support import InFolder, ids, made_kernel, needs, tool, trace_file
from tests.systems import archive
from tests.templates import LOADER, ROOT_UUID, VERSION, unified

LVM_TYPE = uuid.UUID("e6d6d379-f507-44c2-a23c-238f2a3df928")
FIRST, MAPPED = 83_968, "ferry--vg-root"
HOME = b"H" * 4096


def group_disk(path, name, root=MAPPED, change=None, contents=None):
    """A disk with an ESP that starts a kernel with this root, and the group behind it."""
    volumes = placed(name, contents or {"root": _template("linux-root.ext4"), "home": HOME})
    if change is not None:
        volumes = change(volumes)
    draft, at, parts = ImageDraft(DISK_SECTORS * SECTOR), FIRST, []
    for number, data in enumerate(volumes):
        parts.append((LVM_TYPE, at, len(data) // SECTOR, f"lvm{number}"))
        for place in range(0, len(data), MIB):
            if any(data[place : place + MIB]):
                draft.put(at * SECTOR + place, data[place : place + MIB])
        at += len(data) // SECTOR
    put_guid_table(draft, DISK_GUID, [(gpt.EFI_SYSTEM, 2048, 81_920, "EFI"), *parts])
    loader = unified(
        LOADER.read_bytes(),
        {
            b".osrel": b"ID=ferry\n",
            b".cmdline": f"root=/dev/mapper/{root} ro".encode(),
            b".linux": made_kernel(version=VERSION),
            b".initrd": gzip.compress(archive(), mtime=0),
        },
    )
    put_desk(draft, "EFI", {"EFI/BOOT/BOOTX64.EFI": loader})
    draft.save(path)
    return path


class Groups(InFolder):
    def disk(self, name, **more):
        return group_disk(self.folder / f"{name}.img", name, **more)

    def test_a_root_in_pieces_and_a_striped_one_are_read_to_the_session(self):
        for name in GROUPS:
            with self.subTest(name):
                trace = trace_file(self.disk(name))
                self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
                self.assertEqual([system.title for system in trace.systems], ["Ferry Linux 3"])
                types = [volume.type for volume in trace.volumes]
                self.assertIn(f"logical volume {GROUP}/root", types)
                with open_source(str(self.disk(name))) as source:
                    environment = open_environment(source)
                    (volume,) = environment.named("uuid", ROOT_UUID)
                    self.assertGreaterEqual(volume.offset, BEHIND)
                    self.assertEqual(environment.unknown(), [])

    def test_a_volume_in_one_piece_keeps_its_place_on_the_disk(self):
        with open_source(str(self.disk("split"))) as source:
            (home,) = open_environment(source).named("mapped", "ferry--vg-home")
            self.assertEqual(source.read(home.offset, len(HOME)).data, HOME)

    def test_faults_inside_and_names_that_are_not_there(self):
        root = bytearray(_template("linux-root.ext4"))
        at = root.index(b"init of the ticket desk") // 1024 * 1024
        root[at : at + 64] = bytes(64)
        broken = self.disk("split", contents={"root": bytes(root)})
        self.assertEqual(ids(trace_file(broken), "fatal"), ["init-damaged"])
        lost = bytearray(_template("linux-root.ext4"))
        lost[1024:2048] = bytes(1024)
        trace = trace_file(self.disk("striped", contents={"root": bytes(lost)}))
        self.assertIn(trace.failing_phase, ("kernel", None))
        self.assertNotEqual(trace.verdict, "no-fault-found")
        other = trace_file(self.disk("split", root="ferry--vg-rood"))
        self.assertEqual(ids(other, "fatal"), ["root-missing"])

    def test_a_group_of_which_a_disk_is_missing_is_unsure_and_never_at_fault(self):
        trace = trace_file(self.disk("striped", change=lambda volumes: volumes[:1]))
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("unsure", []))

    def test_a_damaged_description_is_unsure(self):
        def torn(volumes):
            data = bytearray(volumes[0])
            data[4096:MIB] = bytes(MIB - 4096)
            return [bytes(data)]

        trace = trace_file(self.disk("split", change=torn))
        self.assertEqual((trace.verdict, ids(trace, "fatal")), ("unsure", []))

    @needs("grub-fstest")
    def test_another_reader_of_such_groups_reads_the_same_files(self):
        for name in GROUPS:
            path = self.disk(name)
            theirs = tool("grub-fstest", path, "cat", f"(lvm/{MAPPED})/etc/fstab")
            with open_source(str(path)) as source:
                environment = open_environment(source)
                volume = environment.device(f"lvm/{MAPPED}")
                mine = environment.read(volume, "/etc/fstab").decode()
                files = open_files(environment.disk.source, volume)
                self.assertIsNotNone(files.find("/usr/lib/systemd/systemd"))
            self.assertEqual(mine.strip(), theirs.strip())

    def test_a_striped_volume_may_be_of_any_length(self):
        unit, far = 64 << 10, 1 << 40
        part = Stripes(8 << 40, unit, (0, far))
        self.assertEqual(part.place(0), (0, unit))
        self.assertEqual(part.place(unit + 5), (far + 5, unit - 5))
        self.assertEqual(part.place(6 << 40), (3 << 40, unit))

    def test_a_volume_is_found_by_the_identifiers_that_a_boot_manager_writes(self):
        text = heads("split")[0][0].decode("latin-1")
        ids_of = re.findall(r'(?:ferry-vg|root) {\nid = "([^"]+)"', text)
        with open_source(str(self.disk("split"))) as source:
            environment = open_environment(source)
            found = environment.device(f"lvmid/{ids_of[0]}/{ids_of[-1]}")
            self.assertEqual(found.mapped, MAPPED)

    def test_every_damaged_description_gives_a_group_or_none(self):
        text = heads("split")[0][0]
        start = text.rindex(b"ferry-vg {")
        whole = text[start : text.index(b"\0", start)]
        group = arrays.read_group(whole)
        self.assertEqual([volume.name for volume in group.volumes], ["log", "root", "home"])
        self.assertEqual(len(group.volumes[1].segments), 2)
        for at in range(0, len(whole), 3):
            arrays.read_group(whole[:at])
            arrays.read_group(whole[:at] + b"[{=" + whole[at + 2 :])


if __name__ == "__main__":
    unittest.main()
