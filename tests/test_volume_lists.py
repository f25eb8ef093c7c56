"""A listing of volumes gives each its role, or a question; what is none is refused."""

import os
import tomllib
import unittest
from pathlib import Path

from mending.case import load_case, volumes_of
from mending.model import UsageError
from mending.reason import judge_volumes, read_listing
from tests.samples import needs_samples, sample_stream
from tests.support import InFolder, needs, run, tool

LISTINGS = tomllib.loads(Path(__file__).with_name("data").joinpath("listings.toml").read_text())
TABLES = {
    "a linux disk": (
        "label: gpt\nsize=512MiB,type=uefi,name=ESP\nsize=1GiB,name=keep\nname=files\n",
        {"boot": "1", "system": "3"},
    ),
    "a disk with recovery": (
        "label: gpt\nsize=100MiB,type=uefi,name=ESP\nsize=16MiB\nsize=236GiB,name=main\n"
        "size=600MiB,type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC,name=Recovery\n",
        {"boot": "1", "system": "3", "recovery": "4"},
    ),
    "an old disk": (
        "label: dos\nsize=500MiB,type=7,bootable\nsize=118GiB,type=7\n",
        {"system": "2"},
    ),
    "swap first": ("label: dos\nsize=1GiB,type=82\ntype=83,bootable\n", {"system": "2"}),
}
TOOLS = (("fdisk", "-l"), ("parted", "-s"), ("sfdisk", "-l"), ("gdisk", "-l"))


class Roles(unittest.TestCase):
    def test_each_listing_gives_roles_or_a_question(self):
        for row in LISTINGS["listing"]:
            with self.subTest(row["text"]):
                result = judge_volumes(read_listing(row["text"]))
                self.assertEqual(result.letters, row["letters"])
                self.assertEqual(sorted(result.questions), row.get("asks", []))

    def test_what_is_no_listing_is_refused_in_a_sentence(self):
        for text, says in (
            ("hello there", "No line"),
            ("C: 237 NTFS Office", "What is 237 of C: in?"),
            ("C: 237", "What is 237"),
            ("C: 10 GB NTFS\nc: 20 GB NTFS", "C: stands there twice"),
            ("C: 99999999 TB NTFS", "No drive is as large as C:"),
            ("", "No line"),
        ):
            with self.subTest(text), self.assertRaisesRegex(UsageError, says):
                read_listing(text)

    def test_a_size_that_no_system_fits_in_is_doubted(self):
        result = judge_volumes(read_listing("C: 237 MB NTFS folders Users, Program Files"))
        self.assertIn("too small", result.volumes[0].doubt)

    @needs_samples("util-linux-source")
    def test_listings_that_a_package_ships_are_understood(self):
        for name, roles in (
            ("lvm", {"boot": "sda1"}),
            ("nvme", {"boot": "sda1", "system": "sda4"}),
        ):
            pattern = f"expected/lsblk/lsblk-simple-{name}-basic"
            with self.subTest(name), sample_stream("util-linux-source", pattern) as file:
                letters = judge_volumes(read_listing(file.read().decode())).letters
                self.assertEqual({**letters, **roles}, dict(letters))


class RealTools(InFolder):
    @needs(*(tool for tool, _ in TOOLS))
    def test_what_partitioning_programs_print_is_understood(self):
        disk = self.folder / "sda"
        for name, (table, roles) in TABLES.items():
            disk.write_bytes(b"")
            os.truncate(disk, 240 << 30)
            tool("sfdisk", "-q", disk, stdin=table)
            for program, option in TOOLS:
                words = [program, option, disk.name, *(["print"] * (program == "parted"))]
                result = judge_volumes(read_listing(tool(*words, cwd=self.folder)))
                with self.subTest(name, tool=program):
                    found = {role: letter[-1] for role, letter in result.letters.items()}
                    self.assertEqual({**found, **roles}, found)


class InACase(InFolder):
    def test_a_listing_fills_the_cards_and_two_alike_are_asked_about(self):
        desk = self.folder / "desk"
        run("open", desk, "--quiet", "--fact", "family=nt")
        listing = self.folder / "listing.txt"
        listing.write_text("C: 237 GB NTFS\nD: 465 GB NTFS\nE: 100 MB FAT32\n")
        shown = run("saw", desk, "--volumes", listing)
        self.assertIn("Which one is the system: C: or D:?", shown)
        run("saw", desk, "--letter", "system=d:")
        self.assertEqual(volumes_of(load_case(desk).state).letters, {"system": "D:", "boot": "E:"})
        refused = run("saw", desk, "--letter", "system=Q:", expect=2)
        self.assertIn("no volume of the listing", refused)
        self.assertEqual(volumes_of(load_case(desk).state).letters["boot"], "E:")

    def test_volumes_are_read_aloud_one_by_one_while_being_led(self):
        desk = self.folder / "desk"
        run("open", desk, "--quiet")
        said = "volume C: 10 GB NTFS\nvolume nonsense\nvolume E: 100 MB FAT32\n"
        shown = run("work", desk, stdin=said + "volume C: 237 GB NTFS\nstop\n")
        self.assertIn("No line of that tells of a volume", shown)
        self.assertEqual(volumes_of(load_case(desk).state).letters, {"system": "C:", "boot": "E:"})


if __name__ == "__main__":
    unittest.main()
