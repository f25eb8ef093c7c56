"""What firmware remembers: real stores, entries by the specification, and real firmware that obeys
them.
"""

import json
import shutil
import struct
import tempfile
import unittest
import uuid
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from mending.boot.uefi import read_boot_options
from mending.formats import firmware
from mending.model import InputError, Window
from tests.machine import OVMF, QEMU, screen_of
from tests.support import needs, tool
from tests.systems import EFI_MAKERS, ESP_UUID, EfiSystems

STORE = Path(str(OVMF).replace("CODE", "VARS"))
OWNER = firmware.GLOBAL
DEEP = "EFI/desk/grubx64.efi"


def entry(title="Desk", file="\\EFI\\desk\\grubx64.efi", partition=ESP_UUID, active=1, words=""):
    """A boot entry by the specification."""
    drive = struct.pack("<IQQ", 1, 2048, 120_000) + uuid.UUID(partition).bytes_le + b"\2\2"
    name = file.encode("utf-16-le") + b"\0\0"
    path = (
        struct.pack("<BBH", 4, 1, 42)
        + drive
        + struct.pack("<BBH", 4, 4, 4 + len(name))
        + name
        + b"\x7f\xff\4\0"
    )
    return (
        struct.pack("<IH", active, len(path))
        + title.encode("utf-16-le")
        + b"\0\0"
        + path
        + words.encode("utf-16-le")
    )


def store(variables):
    """The real store that the firmware package ships, with variables by the published layout."""
    data, at = bytearray(STORE.read_bytes()), None
    at = int.from_bytes(data[48:50], "little") + 28
    while data[at : at + 2] == b"\xaa\x55":
        lengths = struct.unpack_from("<II", data, at + 36)
        at = -(-(at + 60 + sum(lengths)) // 4) * 4
    for name, value in variables.items():
        raw = name.encode("utf-16-le") + b"\0\0"
        head = struct.pack(
            "<HBBIQ16sIII16s", 0x55AA, 0x3F, 0, 7, 0, b"", 0, len(raw), len(value), OWNER.bytes_le
        )
        row = head + raw + value
        data[at : at + len(row)] = row
        at = -(-(at + len(row)) // 4) * 4
    return bytes(data)


class Chosen(EfiSystems):
    def setUp(self):
        super().setUp()
        made, menu = self.folder / "grub.efi", self.folder / "early.cfg"
        menu.write_text("set prefix=/EFI/desk\n")
        modules = ["part_gpt", "fat", "normal", "linux", "serial", "terminal", "echo", "halt"]
        tool("grub-mkimage", "-O", "x86_64-efi", "-o", made, "-p", "/EFI/desk", *modules)
        self.grub = made.read_bytes()
        text = (
            b"serial\nterminal_output serial\nmenuentry Desk {\n linux /kernel\n}\necho Ferry menu"
            b" reached\nhalt\n"
        )
        self.inside = {DEEP: self.grub, "EFI/desk/grub.cfg": text, "kernel": self.kernel()}

    def kernel(self):
        return self.tree()["boot/vmlinuz"]

    def trace(self, path, variables):
        dump = self.folder / "vars.fd"
        dump.write_bytes(store(variables))
        return self.json_here("trace", path, "--variables", dump)

    @needs(*EFI_MAKERS, "grub-mkimage", STORE, OVMF, QEMU)
    def test_an_entry_that_leads_to_the_disk_is_followed_and_real_firmware_agrees(self):
        path = self.efi_disk(self.inside)
        good = {
            "Boot0005": entry(),
            "Boot0006": entry("Gone", "\\EFI\\gone.efi"),
            "BootOrder": struct.pack("<HH", 6, 5),
        }
        trace = self.trace(path, good)
        self.assertEqual((trace["verdict"], trace["failing_phase"]), ("unsure", None))
        says = " ".join(check["says"] for check in trace["rungs"])
        self.assertIn("entry Boot0005 (Desk) starts /EFI/desk/grubx64.efi on volume 1", says)
        passed = [
            finding for finding in trace["findings"] if finding["id"] == "boot-option-passed-over"
        ]
        self.assertEqual(
            [(finding["severity"], finding["where"]["path"]) for finding in passed],
            [("warning", "Boot0006")],
        )
        shown = screen_of(path, "uefi", "Ferry menu reached", store=self.folder / "vars.fd")
        self.assertIn("Ferry menu reached", shown)

    @needs(*EFI_MAKERS, "grub-mkimage", STORE)
    def test_entries_that_lead_nowhere(self):
        path = self.efi_disk(self.inside)
        order = struct.pack("<H", 5)
        other = "5ea00000-0000-4000-8000-0000000000aa"
        rows = (
            ({"Boot0005": entry(partition=other), "BootOrder": order}, "under another identifier"),
            ({"Boot0005": entry(active=0), "BootOrder": order}, "switched off"),
            ({"BootOrder": order}, "no such entry"),
            ({"Boot0005": entry(file="\\EFI\\x.efi"), "BootOrder": order}, "not on volume 1"),
            ({"Boot0005": entry()}, "remembers no order"),
            ({}, "remembers no order"),  # a store without entries is an answer, too
        )
        for variables, wanted in rows:
            trace = self.trace(path, variables)
            fatal = [each["id"] for each in trace["findings"] if each["severity"] == "fatal"]
            self.assertEqual(
                (fatal, trace["failing_phase"]), (["firmware-finds-nothing"], "firmware")
            )
            self.assertIn(wanted, " ".join(finding["says"] for finding in trace["findings"]))
            self.assertNotIn("--variables", json.dumps(trace))
        words = ("mend", path, "--all", "--yes", "--variables", self.folder / "vars.fd")
        self.assertIsNone(self.json_here(*words)["failing_after"])
        after = self.json_here("trace", *words[1:2], *words[4:])["findings"]
        kinds = {each["id"]: each["severity"] for each in after}
        self.assertEqual(kinds["boot-options-lead-nowhere"], "warning")  # the fallback is found

    @needs(*EFI_MAKERS, "grub-mkimage", STORE)
    def test_a_case_and_a_folder_of_variables(self):
        path, case, folder = self.efi_disk(self.inside), self.folder / "case", self.folder / "vars"
        folder.mkdir()
        for name, value in (("Boot0005", entry()), ("BootOrder", struct.pack("<H", 5))):
            (folder / f"{name}-{OWNER}").write_bytes(b"\7\0\0\0" + value)
        self.run_here("open", case, "--disk", path, "--quiet")
        self.assertNotIn("Boot0005", self.run_here("trace", case))
        self.run_here("add", case, folder)
        self.assertIn("Boot0005", self.run_here("trace", case))
        dump = self.folder / "vars.fd"
        dump.write_bytes(store({"BootOrder": struct.pack("<H", 7)}))
        self.run_here("add", case, dump)
        self.assertIn("no such entry", self.run_here("trace", case))
        (self.folder / "none").mkdir()
        for wrong in (path, self.folder / "none"):
            self.assertIn(
                "firmware variables", self.run_here("trace", path, "--variables", wrong, expect=3)
            )


class Read(unittest.TestCase):
    @needs(STORE, QEMU, OVMF)
    def test_what_real_firmware_wrote_itself(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        kept, blank = folder / "vars.fd", folder / "blank.img"
        shutil.copy(STORE, kept)
        blank.write_bytes(bytes(8 << 20))
        screen_of(blank, "uefi", "Shell>", store=kept, keep=True)
        options = read_boot_options(kept)
        kinds = {options.entries[name].kind for name in options.order}
        self.assertLessEqual({"built-in", "device"}, kinds)
        self.assertTrue(all(options.entries[name].title for name in options.order))

    def test_what_is_no_dump(self):
        for path in (Path(__file__), Path("/nowhere")):
            with self.assertRaises(InputError):
                read_boot_options(path)

    @given(st.binary(max_size=300))
    def test_any_bytes_are_read(self, data):
        firmware.read_load_option(data)
        firmware.read_order(data)
        head = bytes(40) + b"_FVH" + bytes(4) + b"\x48\0" + bytes(22)
        kind = uuid.UUID("aaf32c78-947b-439a-a180-2e144ec37792").bytes_le
        firmware.read_store(
            Window(head + kind + struct.pack("<I", 9999) + bytes(8) + b"\xaa\x55\x3f\0" + data)
        )
        firmware.read_variable_file("x" * 60, data)

    def test_a_variable_that_was_being_replaced(self):
        whole = entry(words="root=LABEL=x initrd=\\i")
        option = firmware.read_load_option(whole).record
        self.assertEqual(
            (option.command_line, option.file), ("root=LABEL=x initrd=\\i", "/EFI/desk/grubx64.efi")
        )
        self.assertTrue(firmware.read_load_option(whole[:40]).problems)


if __name__ == "__main__":
    unittest.main()
