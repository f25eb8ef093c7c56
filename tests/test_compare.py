"""Two moments set against each other: real hives as an independent reader has them, disks, their
earlier moments, copies and folders.
"""

import struct
import unittest
import uuid

from Registry import Registry

from mending.disk.files import open_files
from mending.disk.layout import survey
from mending.formats import shadow_store
from mending.formats.shadow_store import BLOCK, HEAD
from mending.source import open_source
from mending.workshop.histories import as_xml, history
from mending.workshop.nt import other_program_at_sign_in
from tests.nt_pc import (
    BASE,
    PROGRAMS,
    SOFTWARE,
    SYSTEM,
    SYSTEM_AT,
    SYSTEM_BYTES,
    NtPc,
    put_by_driver,
)
from tests.samples import needs_samples, read_samples
from tests.support import InFolder, needs, needs_mounts

IDENTIFIER = shadow_store._IDENTIFIER
CREATED = 133_500_000_000_000_000
MIB = 1 << 20


def block(kind, here, following, body=b"", at=HEAD):
    head = IDENTIFIER + struct.pack("<IIQQQ", 1, kind, 0, here, following)
    return (head.ljust(at, b"\0") + body).ljust(BLOCK, b"\0")


def keep_moment(pc, before, created=CREATED):
    """Put a shadow copy on a volume that holds what it was before. No program that makes shadow
    copies runs here; the reader was checked on a real volume.
    """
    with pc.path.open("rb") as disk:
        disk.seek(SYSTEM_AT)
        now = disk.read(SYSTEM_BYTES)
    free = now.index(bytes(4 * MIB), 8 * MIB) // BLOCK * BLOCK + BLOCK
    catalogue, rows, place = free, free + BLOCK, free + 2 * BLOCK
    listed, identifier = b"", uuid.UUID(int=7).bytes_le
    for at in range(0, SYSTEM_BYTES, BLOCK):
        old = before[at : at + BLOCK]
        if old != now[at : at + BLOCK]:
            listed += struct.pack("<QQQII", at, 0, place, 0, 0)
            pc.put(SYSTEM_AT + place, old)
            place += BLOCK
    entries = struct.pack("<QQ16sQQQ", 2, SYSTEM_BYTES, identifier, 3, 0, created).ljust(128, b"\0")
    entries += struct.pack("<QQ16sQQQ", 3, rows, identifier, 0, 0, 0).ljust(128, b"\0")
    pc.put(SYSTEM_AT + catalogue, block(shadow_store.CATALOGUE, catalogue, 0, entries))
    pc.put(SYSTEM_AT + rows, block(shadow_store.BLOCK_LIST, rows, 0, listed))
    header = IDENTIFIER + struct.pack("<II4Q", 1, 1, 7680, 7680, 0, catalogue)
    pc.put(SYSTEM_AT + shadow_store.HEADER_AT, header.ljust(512, b"\0"))


def volume_of(pc):
    with pc.path.open("rb") as disk:
        disk.seek(SYSTEM_AT)
        return disk.read(SYSTEM_BYTES)


def services(path):
    """What an independent reader finds: names with start and kind."""
    hive = Registry.Registry(str(path))
    chosen = hive.open("Select").value("Current").value()
    found = {}
    for key in hive.open(f"ControlSet{chosen:03}\\Services").subkeys():
        values = {value.name(): value for value in key.values()}
        if "Start" in values:
            kind = values["Type"].value() if "Type" in values else 0
            found[key.name().casefold()] = (values["Start"].value(), kind in {1, 2, 8})
    return found


@needs_samples("dissect.regf", "winevtrc")
class RealHives(InFolder):
    def test_services_of_two_real_systems(self):
        one, other = self.folder / "one", self.folder / "other"
        one.write_bytes(next(data for _, data in read_samples("winevtrc", "SYSTEM")))
        pattern = "_data/SYSTEM.gz"
        other.write_bytes(next(data for _, data in read_samples("dissect.regf", pattern)))
        found = self.json_here("compare", one, other)
        mine = {}
        for change in found["changes"]:
            if change["kind"] in {"driver", "service"}:
                mine.setdefault(change["change"], {})[change["name"].casefold()] = change
        before, after = services(one), services(other)
        self.assertEqual(set(mine["added"]), after.keys() - before.keys())
        self.assertEqual(set(mine["removed"]), before.keys() - after.keys())
        moved = {name for name in before.keys() & after.keys() if before[name] != after[name]}
        self.assertLessEqual(moved, set(mine["changed"]))
        for name, change in mine["added"].items():
            start, is_driver = after[name]
            self.assertEqual(change["decides"], is_driver and start in {0, 1}, name)
        decides = [change["decides"] for change in found["changes"]]
        self.assertEqual(decides, sorted(decides, reverse=True))
        self.assertGreater(found["others"]["system"], 1000)
        same = self.json_here("compare", one, one)
        self.assertEqual((same["changes"], same["others"]), ([], {"system": 0}))

    def test_what_cannot_be_compared(self):
        one, other = self.folder / "one", self.folder / "other"
        one.write_bytes(next(data for _, data in read_samples("winevtrc", "SYSTEM")))
        other.write_bytes(next(data for _, data in read_samples("winevtrc", "SOFTWARE")))
        self.assertIn("same kind", self.json_here("compare", one, other, expect=2)["says"])
        other.write_bytes(one.read_bytes()[:5000])
        self.assertIn("no hive", self.json_here("compare", one, other, expect=3)["says"])
        other.write_bytes(b"regf")
        self.json_here("compare", one, other, expect=3)
        self.json_here("compare", one, self.folder / "none", expect=3)
        self.json_here("compare", one, self.folder, expect=3)


@needs(*PROGRAMS)
class Moments(InFolder):
    def pcs(self):
        for name in ("sound", "changed"):
            (self.folder / name).mkdir()
        sound = NtPc(self.folder / "sound", "uefi")
        return sound, NtPc(self.folder / "changed", "uefi", other_program_at_sign_in)

    def test_a_disk_and_the_moment_that_it_keeps(self):
        sound, changed = self.pcs()
        keep_moment(changed, volume_of(sound))
        told = self.json_here("trace", changed.path)["volumes"][1]["moments"]
        self.assertEqual([each["number"] for each in told], [3])
        found = self.json_here("compare", f"{changed.path}@3", changed.path)
        row = next(each for each in found["changes"] if each["kind"] == "sign-in")
        self.assertEqual(
            (row["name"], row["change"], row["decides"]), ("Userinit", "changed", True)
        )
        self.assertIn("userinit.exe", row["was"])
        self.assertIn("greeter.exe", row["is"])
        direct = self.json_here("compare", sound.path, changed.path)
        self.assertEqual(direct["changes"], found["changes"])
        back = self.json_here("compare", changed.path, f"{changed.path}@3")["changes"]
        self.assertEqual([each["was"] for each in back], [each["is"] for each in found["changes"]])
        self.assertIn("userinit.exe", self.run_here("compare", f"{changed.path}@3", changed.path))
        self.run_here("compare", f"{changed.path}@3", changed.path, "--check", expect=1)
        self.run_here("compare", changed.path, changed.path, "--check")
        told = self.json_here("compare", f"{changed.path}@9", changed.path, expect=3)
        self.assertIn("keeps no moment 9; it keeps 3", told["says"])
        point = self.json_here("crashes", changed.path)["restore_points"][0]
        self.assertEqual(point["id"], "3")

    def test_the_whole_disk_as_it_was(self):
        sound, changed = self.pcs()
        before = self.json_here("trace", sound.path)
        changed.lose("quaydisk.sys")
        keep_moment(changed, volume_of(sound))
        self.assertEqual(self.json_here("trace", changed.path)["verdict"], "fails")
        was = self.json_here("trace", f"{changed.path}@3")
        self.assertEqual(was["verdict"], before["verdict"])
        self.assertEqual(
            [phase["state"] for phase in was["phases"]],
            [phase["state"] for phase in before["phases"]],
        )
        self.assertEqual(self.json_here("files", f"{changed.path}@3")["files"], [])
        self.assertEqual(len(self.json_here("files", changed.path)["files"]), 1)
        told = self.json_here("trace", f"{changed.path}@4", expect=3)
        self.assertIn("keeps no moment 4; it keeps 3", told["says"])
        told = self.json_here("mend", f"{changed.path}@3", "--all", "--yes", expect=4)
        self.assertIn("only read", told["says"])
        odd = self.folder / "desk@3"
        odd.write_bytes(sound.path.read_bytes())
        self.assertEqual(self.json_here("trace", odd)["verdict"], before["verdict"])

    @needs_mounts
    def test_what_going_back_would_take_and_bring(self):
        sound, changed = self.pcs()
        story = history("driver", 16)
        put_by_driver(changed, {f"{BASE}/winevt/logs/System.evtx": as_xml(story)})
        created = int((story.onset - 2 * 86_400 + 11_644_473_600) * 10_000_000)
        keep_moment(changed, volume_of(sound), created)
        point = self.json_here("crashes", changed.path)["restore_point"]
        self.assertEqual(point["id"], "3")
        self.assertIn("sign-in Userinit would be as it was", point["undoes"])
        shown = self.run_here("crashes", changed.path)
        self.assertIn(f"mending compare {changed.path}@3 {changed.path}", " ".join(shown.split()))

    def test_copies_folders_and_hives(self):
        sound, changed = self.pcs()
        copy = self.folder / "healthy.zip"
        self.run_here("keep", sound.path, "-o", copy)
        direct = self.json_here("compare", sound.path, changed.path)
        system = [each for each in direct["changes"] if each["kind"] != "sign-in"]
        kept = self.json_here("compare", copy, changed.path)
        self.assertEqual(kept["changes"], system)
        home = self.folder / "tree/ferry/system32/config"
        home.mkdir(parents=True)
        for name in (SYSTEM, SOFTWARE):
            held = self.folder / "tree" / name
            self.read_hive(changed, name, held)
        for folder in (self.folder / "tree", home):
            found = self.json_here("compare", sound.path, folder)
            self.assertEqual(found["changes"], direct["changes"], folder)
        alone = self.json_here("compare", home / "SYSTEM", sound.path)
        self.assertEqual(alone["others"], {"system": direct["others"]["system"]})

    def read_hive(self, pc, name, out):
        with open_source(str(pc.path)) as source:
            files = open_files(source, survey(source).volumes[1])
            out.write_bytes(files.read(files.find(f"/{name}"), 64 * MIB))


if __name__ == "__main__":
    unittest.main()
