"""Single links of chains, on small disks and in memory: what a trace says of its target, what the
emulated firmware answers, what GRUB's commands do, and how sectors and loaders are chosen.
"""

import struct
import unittest
from types import SimpleNamespace
from unittest.mock import patch

from mending.boot.bios import check_active, startable
from mending.boot.chain import failed, finding
from mending.boot.grub import core, entries, script
from mending.boot.linux import sign_in
from mending.boot.nt import session, start, system_hive
from mending.boot.rehearse import rehearse_code
from mending.boot.trace import settle_firmware, trace_target
from mending.boot.uefi import chain as uefi_chain
from mending.boot.uefi import loaders
from mending.disk import settings
from mending.disk.layout import survey
from mending.formats import grub, mbr
from mending.model import FindingId, InputError, RepairId, Severity, Where
from mending.repair.boot import own_code
from mending.source import MemorySource, open_source
from mending.workshop import bios_disk, uefi_disk
from mending.workshop.nt import hive_bytes
from tests.support import InFolder

HALT = b"\xf4"


def shown(register):
    """Code that shows a byte register as a sign: mov al, register; mov ah, 0eh; int 10h."""
    number = {"cl": 1, "dl": 2, "ah": 4, "ch": 5, "dh": 6, "bl": 3, "bh": 7}[register]
    return bytes((0x88, 0xC0 | number << 3)) + b"\xb4\x0e\xcd\x10"


class Targets(InFolder):
    def traced(self, draft, **how):
        path = self.folder / "disk.img"
        draft.save(path)
        with open_source(str(path)) as source:
            return trace_target(source, **how)

    def test_what_was_looked_at(self):
        trace = self.traced(bios_disk(own_code()))
        self.assertEqual((trace.firmware, trace.target.sector), ("bios", 512))
        self.assertEqual(self.traced(uefi_disk()).firmware, "uefi")
        self.assertEqual(self.traced(uefi_disk(), firmware="bios").firmware, "bios")

    def test_a_disk_of_nothing_has_no_firmware_type_unless_one_is_named(self):
        source = MemorySource(bytes(1 << 20))
        self.assertEqual(trace_target(source).firmware, "unknown")
        self.assertEqual(trace_target(source, firmware="uefi").firmware, "uefi")

    def test_the_type_is_what_the_disk_is_made_for(self):
        path = self.folder / "disk.img"
        uefi_disk().save(path)
        with open_source(str(path)) as source:
            self.assertEqual(settle_firmware(survey(source), None), "uefi")
            self.assertEqual(settle_firmware(survey(source), "bios"), "bios")
            self.assertEqual(settle_firmware(survey(source), "anything"), "uefi")


class Entries(InFolder):
    def test_all_four_entries_of_a_table_can_be_started(self):
        path = self.folder / "disk.img"
        bios_disk(own_code()).save(path)
        data = bytearray(path.read_bytes())
        entry = data[446:462]
        for number in range(4):
            table = bytearray(64)
            table[16 * number : 16 * number + 16] = entry
            data[446:510] = table
            path.write_bytes(data)
            with open_source(str(path)) as source:
                disk = survey(source)
                found = [volume.number for volume in startable(disk)]
                checked = check_active(disk, lambda volume: volume.number)
            self.assertEqual((found, checked.state), ([number + 1], "passed"))


class EmulatedFirmware(unittest.TestCase):
    def ran(self, code, size=100 << 20, **how):
        source = MemorySource(bytes(size)) if size <= 1 << 20 else _Sized(size)
        return rehearse_code(source, code.ljust(510, b"\0") + b"\x55\xaa", **how)

    def signs(self, code, registers, **how):
        asked = code
        for register in registers:  # each is shown by code that begins with the same call
            ran = self.ran(asked + shown(register) + HALT, **how)
            yield ord(ran.screen)

    def test_the_geometry_of_a_drive(self):
        call = b"\xb4\x08\xb2\x80\xcd\x13"
        for size, cylinder in ((255 * 63 * 512 * 300, 300), (255 * 63 * 512 * 5000, 1023)):
            low, high, head, drives = self.signs(call, ("ch", "cl", "dh", "dl"), size=size)
            self.assertEqual(low, cylinder & 0xFF)
            self.assertEqual(high, 63 | cylinder >> 8 << 6)
            self.assertEqual((head, drives), (254, 1))

    def carry(self, call, **how):
        """Whether a call left the carry flag set: `setc al`, shown."""
        ran = self.ran(call + b"\x0f\x92\xc0\xb4\x0e\xcd\x10" + HALT, **how)
        return bool(ord(ran.screen))

    def test_calls_that_are_known_and_those_that_are_not(self):
        for call, packets, refused in (
            (b"\xb4\x00\xb2\x80\xcd\x13", True, False),
            (b"\xb4\x00\xb2\x81\xcd\x13", True, True),
            (b"\xbb\xaa\x55\xb4\x41\xb2\x80\xcd\x13", True, False),
            (b"\xbb\xaa\x55\xb4\x41\xb2\x80\xcd\x13", False, True),
            (b"\xbe\x00\x05\xb4\x48\xb2\x80\xcd\x13", True, False),
            (b"\xbe\x00\x05\xb4\x48\xb2\x80\xcd\x13", False, True),
            (b"\xbe\x00\x05\xb4\x48\xb2\x81\xcd\x13", True, True),
            (b"\xb4\x55\xb2\x80\xcd\x13", True, True),
        ):
            with self.subTest(call.hex(), packets=packets):
                self.assertEqual(self.carry(call, packets=packets), refused)

    def test_a_flag_that_is_set_stays_set_by_a_second_refusal(self):
        self.assertTrue(self.carry(b"\xb4\x55\xb2\x80\xcd\x13" * 2))
        self.assertFalse(self.carry(b"\xb4\x55\xb2\x80\xcd\x13\xb4\x00\xb2\x80\xcd\x13"))


class _Sized(MemorySource):
    """A disk of zeros, as large as wanted."""

    def __init__(self, size):
        super().__init__(bytes(512))
        self.size = size


class GrubCommands(unittest.TestCase):
    def state(self, **variables):
        environment = SimpleNamespace(
            named=lambda _kind, value: [value] if value.startswith("known") else [],
            device_of=lambda volume: f"hd0,{volume}",
        )
        return entries.MenuState(environment, {"root": "hd0,1", **variables})

    def test_the_short_form_of_a_search_sets_the_variable_that_is_named_else_the_root(self):
        search = script._short_search("uuid")
        made = self.state()
        self.assertFalse(search(made, [], 1))
        self.assertTrue(search(made, ["known-1"], 1))
        self.assertEqual(made.value("root"), "hd0,known-1")
        self.assertTrue(search(made, ["known-2", "home", "hint"], 1))
        self.assertEqual((made.value("home"), made.value("root")), ("hd0,known-2", "hd0,known-1"))
        self.assertFalse(search(made, ["lost", "home"], 7))
        self.assertEqual(made.value("home"), "hd0,known-2")
        (failed,) = made.loaded.failed
        self.assertEqual((failed.path, failed.line), ("lost", 7))

    def test_a_file_is_named_in_the_menu_that_is_being_run(self):
        made = self.state()
        self.assertEqual(made.reference("/vmlinuz", 3).menu, "")
        made.menus += ["first.cfg", "second.cfg"]
        told = made.reference("(hd1,2)/vmlinuz", 3)
        self.assertEqual(
            (told.device, told.path, told.menu, told.line), ("hd1,2", "/vmlinuz", "second.cfg", 3)
        )

    def test_conditions(self):
        there = {"/quay"}.__contains__
        for words, wanted in (
            ("", False),
            ("word", True),
            ("-n", False),
            ("-n word", True),
            ("-z", True),
            ("-z word", False),
            ("-e /quay", True),
            ("-f /pier", False),
            ("! -e /pier", True),
            ("a = a", True),
            ("a != a", False),
            ("2 -lt 10", True),
            ("a -lt b", False),
            ("-e /quay -a a = b", False),
            ("-e /quay -o a = b", True),
        ):
            self.assertIs(script.holds(words.split(), there), wanted, words)
        self.assertTrue(script.holds(["-z", ""], there))
        self.assertFalse(script.holds(["-n", ""], there))

    def test_where_a_core_begins_in_the_gap(self):
        with patch.object(grub, "is_core_head", lambda window: window.data[:4] == b"core"):
            for lba in (1, 2, 5, 33):
                data = bytearray(2048 * 512)
                data[512 * lba : 512 * lba + 4] = b"core"
                volume = SimpleNamespace(start=63, type="")
                source = MemorySource(bytes(data))
                disk = SimpleNamespace(source=source, volumes=[volume], gpt=None)
                self.assertEqual(core.find_core(disk), lba)
            gpt_volume = SimpleNamespace(start=40, type="BIOS boot partition")
            data[40 * 512 : 40 * 512 + 4] = b"core"
            disk = SimpleNamespace(
                source=MemorySource(bytes(data)), volumes=[gpt_volume], gpt=object()
            )
            self.assertEqual(core.find_core(disk), 40)


class Settings(unittest.TestCase):
    def test_a_hive_by_itself_is_the_systems_where_it_has_a_control_set(self):
        for keys, is_system in (
            (["Select"], True),
            (["ControlSet001"], True),
            (["Software"], False),
        ):
            hive = hive_bytes({name: {} for name in keys}, 5)
            told = settings.one_hive("hive", hive)
            self.assertEqual((told.system is not None, told.programs is None), (is_system,) * 2)
        with self.assertRaises(InputError):
            settings.one_hive("hive", b"no hive")

    def test_tags_of_a_group_stand_in_the_order_of_loading(self):
        for raw, ranks in (
            (struct.pack("<4I", 3, 7, 5, 9), {7: 0, 5: 1, 9: 2}),
            (struct.pack("<3I", 9, 7, 5), {7: 0, 5: 1}),  # it has fewer than it says
            (struct.pack("<3I", 2, 7, 7), {7: 0}),
            (b"", {}),
        ):
            key = SimpleNamespace(data=lambda _name, raw=raw: raw)
            self.assertEqual(start._tag_ranks(key, "quay"), ranks)
        self.assertEqual(start._tag_ranks(key, ""), {})

    def test_how_settings_name_a_volume(self):
        guid = "00112233-4455-6677-8899-aabbccddeeff"
        signature = SimpleNamespace(disk_signature=0x11223344)
        reading = SimpleNamespace(record=SimpleNamespace(fields=signature))
        by_place = bytes.fromhex("44332211") + (1 << 20).to_bytes(8, "little")
        for partuuid, gpt, record, wanted in (
            (guid, object(), reading, [session._BY_GUID + _guid(guid)]),
            ("11223344-01", None, reading, [by_place]),
            ("", object(), None, []),
            ("", None, None, []),
        ):
            volume = SimpleNamespace(partuuid=partuuid, offset=1 << 20)
            disk = SimpleNamespace(gpt=gpt, mbr=record)
            environment = SimpleNamespace(disk=disk, outside=lambda inside: inside)
            start = SimpleNamespace(environment=environment, volume=volume)
            named = list(session.own_names(SimpleNamespace(start=start)))
            self.assertEqual(named, wanted)
        self.assertEqual(session._told(by_place), "byte 1048576 of disk 11223344")
        self.assertIn(guid, session._told(session._BY_GUID + _guid(guid)))

    def test_a_copy_of_hives_is_judged_by_the_first_that_cannot_be_used(self):
        sound = hive_bytes({"Select": {}}, 5)
        for files, why in (
            ({}, "is not there"),
            (dict.fromkeys(system_hive.SET, b""), "is empty"),
            (dict.fromkeys(system_hive.SET, b"regf" + bytes(5000)), "is damaged"),
            (dict.fromkeys(system_hive.SET, sound), ""),
        ):
            environment = SimpleNamespace(
                read=lambda _volume, path, _most, files=files: files.get(path[3:], b""),
                find=lambda _volume, path, files=files: files.get(path[3:]),
            )
            judged = system_hive._judged(environment, None, "/c")
            self.assertEqual(judged.folder, "/c")
            self.assertTrue(
                why in judged.why_not and bool(judged.why_not) == bool(why), judged.why_not
            )


def _guid(text):
    parts = text.split("-")
    return b"".join(bytes.fromhex(part)[::-1] for part in parts[:3]) + bytes.fromhex(
        "".join(parts[3:])
    )


class Accounts(unittest.TestCase):
    def test_only_the_administrator_and_people_with_a_shell_count(self):
        rows = [
            "root:x:0:0:root:/root:/bin/bash",
            "desk:x:1000:1000::/home/desk:/bin/bash",
            "closed:x:1001:1001::/home/closed:/usr/sbin/nologin",
            "nobody:x:65534:65534::/:/bin/bash",
            "short:x:1002",
            ":x:1003:1003::/home/none:/bin/bash",
            "words:x:many:1004::/home/words:/bin/bash",
            "late:x:1005:1005::/home/late:/bin/sh",
        ]
        found = [account.name for account in sign_in.read_accounts(rows)]
        self.assertEqual(found, ["root", "desk", "late"])


class Loaders(unittest.TestCase):
    def ordered(self, ranks, families=("linux",)):
        files = [
            SimpleNamespace(path=path, sound=not path.endswith("bad"), fallback="BOOT" in path)
            for path in ranks
        ]
        systems = [SimpleNamespace(family=family) for family in families]
        environment = SimpleNamespace(
            volumes=[SimpleNamespace(extended=False), SimpleNamespace(extended=True)],
            contents=lambda _volume: SimpleNamespace(systems=systems),
        )
        esp = SimpleNamespace(volume="esp", loaders=files)
        with patch.object(loaders, "_rank", lambda _env, _volume, file: ranks[file.path]):
            found = loaders.by_likelihood(environment, [esp])
        self.assertEqual({volume for volume, _ in found} or {"esp"}, {"esp"})
        return [file.path for _, file in found]

    def test_the_likeliest_loader_comes_first(self):
        shim, known, other, helper = loaders._BY_SHIM, loaders._KNOWN, loaders._OTHER, 3
        self.assertEqual(helper, loaders._HELPER)
        for ranks, families, wanted in (
            ({"/a/x": other, "/b/grub": known}, ("linux",), ["/b/grub", "/a/x"]),
            ({"/a/grub": known, "/a/shim": shim, "/a/mm": helper}, ("linux",), ["/a/shim"]),
            ({"/a/grub": known, "/b/shim": shim}, ("linux",), ["/b/shim", "/a/grub"]),
            ({"/a/mm": helper}, ("linux",), ["/a/mm"]),
            ({"/b/grub": known, "/a/x": other}, ("nt",), ["/a/x", "/b/grub"]),
            ({"/b/grub": known, "/a/x": other}, ("nt", "linux"), ["/b/grub", "/a/x"]),
            ({"/b/grub": known, "/a/x": other}, (), ["/b/grub", "/a/x"]),
            ({"/a/bad": known, "/EFI/BOOT/x": known, "/a/x": other}, ("linux",), ["/a/x"]),
        ):
            with self.subTest(ranks, families=families):
                self.assertEqual(self.ordered(ranks, families), wanted)

    def test_names_of_machines_in_loaders(self):
        for machine, wanted in ((0x8664, "grubx64"), (0x14C, "grubia32"), (0xAA64, "grubaa64")):
            handed = []
            checks = SimpleNamespace(
                environment=SimpleNamespace(find=lambda *_words: None),
                volume=None,
                path="/EFI/quay/shim.efi",
                _hand_over=lambda path, *_words, h=handed: h.append(path),
            )
            loaders._LoaderChecks._behind_shim(checks, machine)
            self.assertEqual(handed, [f"/EFI/quay/{wanted}.efi"])

    def test_a_loader_of_another_machine_is_damage(self):
        data = b"loader"
        environment = SimpleNamespace(
            find=lambda _volume, path: SimpleNamespace(path=path, bytes=len(data)),
            read=lambda _volume, _path, _most=0: data,
        )
        sound = SimpleNamespace(problems=(), record=SimpleNamespace(machine=0x8664))
        for machine, wanted in ((0, "passed"), (0x8664, "passed"), (0x14C, "failed")):
            checks = loaders._LoaderChecks(
                environment, SimpleNamespace(number=1), "/a.efi", who="A menu", machine=machine
            )
            with patch.object(loaders.pe, "read", lambda *_words: sound):
                self.assertEqual(checks.second().state, wanted)
        checks = loaders._LoaderChecks(
            environment, SimpleNamespace(number=1), "/a.efi", seen=99, who="A menu"
        )
        with patch.object(loaders.pe, "read", lambda *_words: sound):
            self.assertIn("in a circle", checks.second().says)

    def no_volume(self, *volumes, unlisted=()):
        chain = SimpleNamespace(
            _disk=SimpleNamespace(volumes=volumes), _table=lambda: Where(offset=446, length=64)
        )
        with patch.object(uefi_chain, "find_unlisted_volumes", lambda _disk: unlisted):
            (fault,) = uefi_chain.UefiChain._no_volume(chain).findings
        return fault

    def test_why_there_is_no_system_partition(self):
        passed_over = SimpleNamespace(efi=True, passed_over=True)
        other = SimpleNamespace(efi=False, passed_over=True)
        self.assertIn("passes over", self.no_volume(other, passed_over).says)
        self.assertIn("No volume is marked", self.no_volume(other).says)
        self.assertEqual(self.no_volume(other).repairs, ())
        lost = SimpleNamespace(kind=SimpleNamespace(is_fat=True))
        self.assertEqual(self.no_volume(unlisted=[lost]).repairs, (RepairId.PARTITION_TABLE,))

    def test_how_much_hangs_on_the_entry_of_firmware(self):
        loader = SimpleNamespace(path="/a.efi", bytes=9)
        chain = SimpleNamespace(_copy=lambda: (RepairId.BOOT_FILES,))
        for damaged, severity, repairs in (
            (False, Severity.NOTE, ()),
            (True, Severity.WARNING, (RepairId.BOOT_FILES,)),
        ):
            question = uefi_chain.UefiChain._entry_question(chain, loader, damaged, None)
            (told,) = question().findings
            self.assertEqual((told.severity, told.repairs), (severity, repairs))
            self.assertEqual("is damaged" in told.says, damaged)

    def test_where_the_table_is(self):
        header = SimpleNamespace(entries_lba=2)
        believed = SimpleNamespace(header=header, entry_bytes=bytes(16_384))
        source = SimpleNamespace(bytes_per_sector=4096)
        for gpt, wanted in (
            (None, (446, 64)),
            (SimpleNamespace(believed=None), (446, 64)),
            (SimpleNamespace(believed=believed), (8192, 16_384)),
        ):
            chain = SimpleNamespace(_disk=SimpleNamespace(gpt=gpt, source=source))
            where = uefi_chain.UefiChain._table(chain)
            self.assertEqual((where.offset, where.length), wanted)

    def test_faults_behind_every_loader_but_the_likeliest_are_damage_that_may_be_passed(self):
        def link(path):
            note = finding(FindingId.EFI_LOADER_MISSING, Severity.FATAL, f"behind {path}")
            return lambda: failed(note)

        files = [SimpleNamespace(path=path, bytes=9) for path in ("/first", "/second", "/third")]
        chain = SimpleNamespace(
            _environment=None, _readable=None, _entry_question=lambda *words: words[-1]
        )
        with (
            patch.object(
                uefi_chain, "by_likelihood", lambda *_words: [("esp", file) for file in files]
            ),
            patch.object(uefi_chain, "behind_loader", lambda _env, _volume, path: link(path)),
        ):
            result = uefi_chain.UefiChain._by_entry_alone(chain, False, ())
        told = [(each.says, each.severity) for each in result.findings]
        warning = Severity.WARNING
        self.assertEqual(told, [("behind /second", warning), ("behind /third", warning)])
        self.assertEqual(result.then().findings[0].says, "behind /first")


class Volumes(InFolder):
    def test_a_volume_that_lies_elsewhere_than_it_believes(self):
        path = self.folder / "disk.img"
        bios_disk(own_code()).save(path)
        data = bytearray(path.read_bytes())
        start = mbr.read(survey(MemorySource(bytes(data))).source.read(0, 512)).record.entries[0]
        at = start.first_lba * 512 + 28
        data[at : at + 4] = (1).to_bytes(4, "little")
        path.write_bytes(data)
        trace = self.json_here("trace", path)
        self.assertIn("hidden-sectors", " ".join(each["id"] for each in trace["findings"]))


if __name__ == "__main__":
    unittest.main()
