"""Disk maps: to scale with a legible least width, nothing left out, and drawn to files."""

import unittest
import xml.etree.ElementTree as Xml

from hypothesis import given, settings
from hypothesis import strategies as st

from mending.disk.layout import survey
from mending.disk.scan import DiskMap, Stretch, disk_map, lost_between
from mending.repair.boot import own_code
from mending.report.figures import lay_out, to_scale
from mending.source import MemorySource, open_source
from mending.workshop import bios_disk, uefi_disk
from tests.support import SECTOR, InFolder, needs, patch, tool

LEAST = {"volume": 10.0, "gap": 4.0, "table": 2.0, "unlisted": 10.0}
STRETCHES = st.lists(
    st.tuples(st.integers(0, 5000), st.integers(1, 6000), st.sampled_from(sorted(LEAST))),
    max_size=7,
)


class Scale(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.floats(1, 1e9), st.floats(0, 30)), min_size=1, max_size=9),
        st.floats(50, 500),
    )
    def test_widths_fill_the_ribbon_and_are_legible(self, pieces, width):
        lengths, least = zip(*pieces, strict=True)
        widths = to_scale(lengths, least, width)
        self.assertAlmostEqual(sum(widths), width, places=5)
        room = min(1.0, width / sum(least)) if sum(least) else 1.0
        for got, wanted in zip(widths, least, strict=True):
            self.assertGreaterEqual(got + 1e-6, wanted * room)
        free = [
            (length, got)
            for length, got, wanted in zip(lengths, widths, least, strict=True)
            if got > wanted + 1e-3
        ]
        scales = [got / length for length, got in free]
        self.assertTrue(
            not scales or max(scales) <= min(scales) * 1.001, "what is not widened is to scale"
        )

    @given(STRETCHES)
    @settings(max_examples=150)
    def test_boxes_keep_the_order_of_the_disk_and_share_no_place_in_a_lane(self, rows):
        shown = [Stretch(start=start, sectors=count, kind=kind) for start, count, kind in rows]
        disk = DiskMap(
            sector=512, sectors=8000, stretches=tuple(sorted(shown, key=lambda one: one.start))
        )
        boxes = lay_out(disk, 80, LEAST)
        self.assertEqual(len(boxes), len(shown))
        for box in boxes:
            self.assertTrue(-1e-6 <= box.left < box.right <= 80 + 1e-6)
            for other in boxes:
                apart = (
                    other is box
                    or other.lane != box.lane
                    or other.right <= box.left
                    or box.right <= other.left
                )
                self.assertTrue(apart or abs(box.right - box.left) < 1e-6)
                self.assertFalse(
                    other.stretch.start > box.stretch.start and other.left < box.left - 1e-6
                )


class Maps(InFolder):
    def map_of(self, path):
        with open_source(str(path)) as source:
            return disk_map(survey(source))

    def kinds(self, found):
        return [(stretch.kind, stretch.start, stretch.sectors) for stretch in found.stretches]

    def test_every_sector_is_in_a_stretch_or_in_what_alignment_leaves(self):
        path = self.folder / "disk.img"
        uefi_disk().save(path)
        self.assertEqual(
            self.kinds(self.map_of(path)),
            [
                ("table", 0, 34),
                ("volume", 2048, 81920),
                ("volume", 83968, 81920),
                ("gap", 165888, 38879),
                ("table", 204767, 33),
            ],
        )
        bios_disk(own_code()).save(path)
        sound = self.map_of(path)
        patch(path, 462, bytes(16))
        lost = lost_between(self.map_of(path), sound)
        self.assertEqual(
            [stretch.kind for stretch in lost.stretches], ["table", "volume", "unlisted", "gap"]
        )
        self.assertEqual(
            self.kinds(disk_map(survey(MemorySource(bytes(4 << 20))))),
            [("table", 0, 1), ("gap", 1, 8191)],
        )

    @needs("sfdisk")
    def test_logical_and_overlapping_volumes_are_all_shown(self):
        path = self.partitioned(
            "l",
            "x1 : start=2048,size=20000,type=83",
            "x2 : start=24576,size=90000,type=5",
            "x5 : start=26624,size=30000,type=c",
        )
        numbers = [
            stretch.number for stretch in self.map_of(path).stretches if stretch.kind == "volume"
        ]
        self.assertEqual(numbers, [1, 5])
        patch(path, 446 + 12, (30_000).to_bytes(4, "little"))
        shown = self.run_here("trace", path)
        self.assertIn("[1 blank", shown)
        self.assertGreater(shown.index("[5 blank"), shown.index("[1 blank"))

    def test_the_terminal_shows_listed_unlisted_and_free_at_any_width(self):
        path = self.folder / "disk.img"
        bios_disk(own_code()).save(path)
        patch(path, 462, bytes(16))
        for columns in ("40", "80", "200"):
            self.env["COLUMNS"] = columns
            shown = self.run_here("search", path)
            row = next(line for line in shown.splitlines() if line.startswith("##"))
            self.assertTrue(len(row) <= int(columns))
            self.assertRegex(row, r"## *\[1 fat32 [^]]*\]\[\? fat32 [^]]*\]\.+")
            self.assertIn("41 MiB", shown)

    def test_figures_are_files_of_their_format_and_the_same_every_time(self):
        path, svg, png = (self.folder / name for name in ("disk.img", "map.svg", "map.png"))
        bios_disk(own_code()).save(path)
        patch(path, 446, bytes(66))
        self.run_here("search", path, "--figure", svg)
        root = Xml.fromstring(svg.read_text())
        self.assertTrue(root.tag.endswith("svg"))
        words = " ".join("".join(one.itertext()) for one in root.iter() if one.tag.endswith("text"))
        for wanted in ("TICKETDESK", "40 MiB", "volume that no table lists", "free"):
            self.assertIn(wanted, words)
        before = svg.read_bytes()
        self.run_here("search", path, "--figure", svg, "--force")
        self.assertEqual(svg.read_bytes(), before)
        self.run_here("mend", path, "partition-table", "--yes", "--figure", png)
        self.assertEqual(png.read_bytes()[:8], b"\x89PNG\r\n\x1a\n")
        self.assertIn(
            "png, .svg", self.run_here("trace", path, "--figure", self.folder / "map.txt", expect=2)
        )
        patch(path, 0, bytes(440))
        told = self.run_here("mend", path, "boot-code", "--dry-run", "--figure", png, "--force")
        self.assertIn("No figure was drawn", told)
        self.assertIn(
            "cannot be used",
            self.run_here("trace", path, "--figure", path / "map.png", expect=3),
        )

    @needs("mkfs.fat")
    def test_text_of_a_label_is_harmless_in_the_map(self):
        path = self.folder / "disk.img"
        bios_disk(own_code()).save(path)
        root = tool("mdir", "-i", f"{path}@@{2048 * SECTOR}", "::")
        self.assertIn("TICKETDESK", root)
        data = path.read_bytes()
        at = data.index(b"TICKETDESK ", 2048 * SECTOR + 40 * SECTOR)
        patch(path, at, b"A\x1b[31m]\x07BCD")
        self.assertNotIn("\x1b", self.run_here("trace", path))


if __name__ == "__main__":
    unittest.main()
