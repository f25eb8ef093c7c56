"""Rules of Linux systems, volumes and boot configurations on their own: words of a command line,
tables of accounts, free space as the real program counts it, where stores are looked for.
"""

import re
import unittest
from types import SimpleNamespace
from unittest.mock import patch

from mending.boot import new_entry, volumes
from mending.boot.bios import could_start
from mending.boot.chain import DiskEnvironment
from mending.boot.grub import core
from mending.boot.linux import mounts, sign_in
from mending.boot.nt import store, system_hive
from mending.boot.nt.store import carried_store
from mending.disk.hives import Hive
from mending.disk.layout import survey
from mending.model import KINDS, FilesystemKind, FindingId, Severity, Where
from mending.repair.boot import own_code
from mending.source import MemorySource, open_source
from mending.workshop import bios_disk
from mending.workshop.nt import hive_bytes
from tests.support import InFolder, needs, tool

MIB = 1 << 20


def ids(findings):
    return [each.id for each in findings]


class CommandLines(unittest.TestCase):
    def test_what_ends_a_start_at_a_shell(self):
        for line, wanted in (
            ("quiet ro root=/dev/sda1", ""),
            ("quiet single ro", "single"),
            ("single=1", ""),
            ("systemd.unit=rescue.target", "systemd.unit=rescue.target"),
            ("systemd.unit=graphical.target", ""),
            ("init=/bin/sh quiet", "init=/bin/sh"),
            ("rdinit=/bin/bash", "rdinit=/bin/bash"),
            ("init=/sbin/init", ""),
        ):
            self.assertEqual(mounts.diversion(line), wanted, line)

    def test_what_is_asked_for_and_not_there(self):
        asked = []
        environment = SimpleNamespace(
            named=lambda kind, value: asked.append((kind, value)) or value == "known",
            volumes=(),
            contents=None,
        )
        with patch.object(
            mounts, "_encrypted", lambda _env, name: asked.append(name) or name == "luks-a"
        ):
            found = mounts._unlock(
                environment, "rd.luks.name=luks-a=root rd.luks.name=luks-b=home", Where()
            )
        self.assertEqual(asked, ["luks-a", "luks-b"])
        self.assertEqual(ids(found), [FindingId.UNLOCK_MISSING])
        self.assertIn("luks-b=home", found[0].says)


class Accounts(unittest.TestCase):
    ROOT, DESK = "root:x:0:0::/root:/bin/bash", "desk:x:1000:1000::/home/desk:/bin/bash"

    def damage(self, rows, secrets=b"root:*:1::::::\n", barred=False):
        checks = SimpleNamespace(
            _environment=SimpleNamespace(
                find=lambda _volume, path: (path == "/etc/nologin" and barred) or None
            ),
            _volume=None,
            _copies=lambda _path: (),
        )
        table = "\n".join(rows).encode()
        accounts = sign_in.read_accounts(rows)
        return sign_in.SignInChecks._damage(checks, table, rows, accounts, secrets)

    def test_damage_of_the_tables(self):
        fatal, rows = Severity.FATAL, [self.ROOT, self.DESK]
        for words, wanted in (
            ({"rows": rows}, []),
            ({"rows": []}, [(FindingId.ACCOUNTS_DAMAGED, fatal)]),
            ({"rows": ["#nobody"]}, [(FindingId.ACCOUNTS_DAMAGED, fatal)]),
            ({"rows": [self.DESK]}, [(FindingId.ACCOUNTS_DAMAGED, fatal)]),
            ({"rows": [*rows, "broken:x"]}, [(FindingId.ACCOUNT_ROW, Severity.WARNING)]),
            ({"rows": [*rows, "", "+::::::", "# a:b"]}, []),
            ({"rows": rows, "secrets": b""}, [(FindingId.ACCOUNTS_DAMAGED, fatal)]),
            ({"rows": rows, "barred": True}, [(FindingId.SIGN_IN_BARRED, Severity.WARNING)]),
        ):
            found = [(each.id, each.severity) for each in self.damage(**words)]
            self.assertEqual(found, wanted, words)
        (row,) = self.damage([*rows, "broken:x"])
        self.assertEqual(row.where.line, 3)


class Entries(unittest.TestCase):
    def wanted(self, files, identifier="1-2"):
        environment = SimpleNamespace(read=lambda _volume, path: files.get(path, b""))
        inside = SimpleNamespace(
            volume=SimpleNamespace(number=2), info=SimpleNamespace(identifier=identifier)
        )
        return new_entry._wanted(environment, inside, SimpleNamespace(title="Ferry Linux"))

    def test_words_of_a_new_entry(self):
        kept, release = new_entry._WORDS_FILE, "etc/os-release"
        for words, made in (
            ("quiet root=/dev/sda1 BOOT_IMAGE=/a initrd=/b", "ro quiet"),
            ("quiet rw", "quiet rw"),
            ("ro quiet", "ro quiet"),
            ("", "ro"),
        ):
            found = self.wanted({kept: words.encode(), release: b'NAME=x\nID="ferry linux"\n'})
            self.assertEqual((found.words, found.name), (made, "UUID=1-2"))
            self.assertEqual(found.key, "ferrylinux")
        self.assertEqual(self.wanted({}).key, "linux")

    def test_words_of_the_systems_own_settings(self):
        settings = 'GRUB_CMDLINE_LINUX="quiet splash"\n#GRUB_CMDLINE_LINUX=no\nOTHER=1\nplain\n'
        settings += "GRUB_CMDLINE_LINUX_DEFAULT='a=b'\nGRUB_CMDLINE_LINUX=\"open\n"
        self.assertEqual(new_entry._settings(settings), ["quiet", "splash", "a=b"])

    def test_what_a_volume_believes_of_its_length(self):
        for start, believed, own, wanted in (
            (8, 100, 0, []),
            (8, 101, 0, [FindingId.VOLUME_LARGER_THAN_ENTRY]),
            (8, 101, 5, []),
            (8, 40, 0, [FindingId.VOLUME_MUCH_SMALLER_THAN_ENTRY]),
            (1, 40, 0, [FindingId.VOLUME_MUCH_SMALLER_THAN_ENTRY]),
            (0, 40, 0, []),
            (8, 0, 0, []),
        ):
            volume = SimpleNamespace(
                number=1,
                start=start,
                bytes=100,
                entry_offset=446,
                boot=SimpleNamespace(sectors=own),
            )
            inside = SimpleNamespace(
                volume=volume, info=SimpleNamespace(bytes=believed), role="data"
            )
            found = volumes._length(SimpleNamespace(gpt=None), inside)
            self.assertEqual(ids(found), wanted, (start, believed, own))

    def test_where_a_lost_superblock_was(self):
        boot = SimpleNamespace(unread="It cannot be read.")
        for kind, behind in (("ext", 1024), ("xfs", 0), ("btrfs", 65_536)):
            volume = SimpleNamespace(
                number=2,
                boot=boot,
                offset=1 << 20,
                filesystem=kind,
                kind=KINDS[FilesystemKind(kind)],
            )
            (lost,) = volumes._lost_superblock(volume)
            self.assertEqual(lost.where.offset, (1 << 20) + behind)


@needs("mke2fs", "dumpe2fs")
class Room(InFolder):
    def test_free_space_is_what_is_left_for_people(self):
        for reserved in ("0", "10"):
            path = self.folder / f"{reserved}.img"
            path.write_bytes(bytes(24 * MIB))
            tool("mke2fs", "-q", "-t", "ext4", "-b", "1024", "-m", reserved, path)
            told = tool("dumpe2fs", "-h", path)
            free, kept, size, inodes = (
                int(re.search(rf"{name}:\s+(\d+)", told)[1])
                for name in ("Free blocks", "Reserved block count", "Block size", "Free inodes")
            )
            with open_source(str(path)) as source:
                environment = DiskEnvironment(survey(source))
                room = environment.free_space(environment.volumes[0])
            self.assertEqual((room.bytes, room.inodes), ((free - kept) * size, inodes))


class Stores(unittest.TestCase):
    def test_the_store_that_a_manager_carries(self):
        name = store.nt_names().store.beside_loader
        sound = f"\\EFI\\quay\\boot\\{name}"
        for text, wanted in (
            (sound, sound.replace("\\", "/")),
            (f"\\boot\\{name}", ""),
            ("\\EFI\\quay\\boot\\other", ""),
        ):
            data = b"code" * 9 + text.encode("utf-16-le") + bytes(4)
            self.assertEqual(carried_store(data), wanted, text)

    def test_stores_are_looked_for_on_the_active_volume_and_on_system_partitions(self):
        name = store.nt_names().store.beside_code

        def volume(number, **marks):
            marks = {"active": False, "efi": False, "fat": False, "readable": True, **marks}
            kind = SimpleNamespace(is_readable=marks.pop("readable"), is_fat=marks.pop("fat"))
            return SimpleNamespace(number=number, extended=False, kind=kind, **marks)

        volumes = [
            volume(1, active=True),
            volume(2),
            volume(3, efi=True),
            volume(4, fat=True),
            volume(5, active=True, readable=False),
        ]
        environment = SimpleNamespace(
            volumes=volumes, find=lambda _volume, path: SimpleNamespace(path=f"/{path}")
        )
        with patch.object(store, "stores_on", lambda _env, on: [f"/EFI/{on.number}"]):
            found = [(place.volume.number, place.path) for place in store.store_places(environment)]
        self.assertEqual(found, [(1, f"/{name}"), (3, "/EFI/3"), (4, "/EFI/4")])

    def test_a_folder_named_like_a_store_is_none(self):
        name = store.nt_names().store.beside_loader
        folder = SimpleNamespace(path="/EFI/quay", is_folder=True)
        for is_folder, wanted in ((False, [f"/EFI/quay/{name}"]), (True, [])):
            file = SimpleNamespace(path=f"/EFI/quay/{name}", is_folder=is_folder)
            files = SimpleNamespace(
                listing=lambda path: [folder] if path == "/EFI" else [],
                find=lambda path, file=file: file if path == file.path else None,
            )
            environment = SimpleNamespace(
                find=lambda _volume, _path: SimpleNamespace(path="/EFI", is_folder=True),
                files=lambda _volume, files=files: files,
            )
            self.assertEqual(store.stores_on(environment, None), wanted)

    def test_a_control_set_has_services_and_settings(self):
        whole = {"Services": {}, "Control": {}}
        for keys, selected in (
            ({"Select": {"Current": 1}, "ControlSet001": whole}, True),
            ({"Select": {"Current": 2}, "ControlSet001": whole}, False),
            ({"Select": {"Current": 1}, "ControlSet001": {"Services": {}}}, False),
            ({"Select": {"Current": 1}, "ControlSet001": {"Control": {}}}, False),
            ({"ControlSet001": whole}, False),
        ):
            hive = Hive(hive_bytes(keys, 5))
            self.assertEqual(system_hive._selected(hive) is not None, selected, keys)


class Cores(unittest.TestCase):
    def spare(self, found=True, whole=True, unpacked=b"core", image="image"):
        data = b"x" * 1024
        files = SimpleNamespace(
            find=lambda path: SimpleNamespace(path=path) if found else None,
            read=lambda _file: data,
        )
        disk = SimpleNamespace(source=None, volumes=["volume"])
        with (
            patch.object(core, "files_kept", lambda _disk: [("volume", files)]),
            patch.object(core.grub, "is_core_head", lambda _head: whole),
            patch.object(core.grub, "unpack_core", lambda _data: unpacked),
            patch.object(core.grub, "read_image", lambda _data: image),
        ):
            return core.spare_core(disk)

    def test_only_a_whole_core_of_its_kind_is_kept_in_mind(self):
        self.assertEqual(self.spare().volume, "volume")
        self.assertIsNone(self.spare(found=False))
        self.assertIsNone(self.spare(whole=False))
        self.assertIsNone(self.spare(unpacked=None))
        self.assertIsNone(self.spare(image=None))


class Starts(InFolder):
    def test_a_volume_without_code_cannot_be_started(self):
        path = self.folder / "disk.img"
        bios_disk(own_code()).save(path)
        data = bytearray(path.read_bytes())
        source = MemorySource(bytes(data))
        volume = survey(source).volumes[0]
        self.assertTrue(could_start(source, volume))
        at = int(volume.offset)
        data[at + 62 : at + 510] = bytes(448)
        source = MemorySource(bytes(data))
        self.assertFalse(could_start(source, survey(source).volumes[0]))


if __name__ == "__main__":
    unittest.main()
