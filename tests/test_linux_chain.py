"""From the boot manager to the mounts: real GRUB images and file systems, and each link broken on
its own.
"""

import gzip
import lzma
import struct
import unittest

import lz4.block
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from mending.boot.linux import mount_table, option, parse_name
from mending.formats import boot_menus, bzimage, grub, initramfs
from mending.model import Window
from tests.support import (
    GRUB_FILES,
    SECTOR,
    START,
    ids,
    made_kernel,
    needs,
    needs_mounts,
    patch,
    sha,
    tool,
    trace_file,
)
from tests.systems import MAKERS, MENU, MODULES, ROOT, VERSION, Systems, archive, cpio


class Chain(Systems):
    @needs(*MAKERS)
    def test_a_sound_system_is_followed_to_its_mounts(self):
        trace = self.check([], None)
        says = " ".join(check.says for check in trace.checks)
        for wanted in (
            "looks for its files in (hd0,msdos1)/boot/grub",
            "entry 'Ferry Linux' starts",
            VERSION,
            "gzip, 2 files",
            "The root is volume 1",
            "/usr/lib/systemd/systemd is there",
            "fstab requires is there",
        ):
            self.assertIn(wanted, says)
        self.assertEqual((trace.verdict, ids(trace)), ("no-fault-found", []))
        states = {phase.id: phase.state for phase in trace.phases}
        self.assertEqual(
            {states[name] for name in ("boot-manager", "loader", "kernel")}, {"passed"}
        )

    @needs(*MAKERS)
    def test_each_file_of_the_chain_that_is_lost_or_damaged_is_found_in_its_phase(self):
        whole = gzip.compress(archive())
        other = MENU.replace(f"root=UUID={ROOT}", "root=UUID=dead-beef").encode()
        rows = (
            (["grub-menu-missing"], "boot-manager", {"boot/grub/grub.cfg": b""}),
            (["grub-menu-empty"], "boot-manager", {"boot/grub/grub.cfg": b"set timeout=5\n"}),
            (["kernel-missing"], "loader", {"boot/vmlinuz": None}),
            (["kernel-damaged"], "loader", {"boot/vmlinuz": made_kernel()[:30_000]}),
            (["kernel-damaged"], "loader", {"boot/vmlinuz": bytes(70_000)}),
            (["initramfs-missing"], "loader", {"boot/initrd": None}),
            (["initramfs-damaged"], "loader", {"boot/initrd": whole[: len(whole) // 2]}),
            (["initramfs-damaged"], "loader", {"boot/initrd": cpio(["init"], trailer=False)}),
            (["initramfs-damaged"], "loader", {"boot/initrd": b"ferry" * 900}),
            (["root-missing"], "kernel", {"boot/grub/grub.cfg": other}),
            (["init-missing"], "kernel", {"usr/lib/systemd/systemd": None}),
            (["init-damaged"], "kernel", {"usr/lib/systemd/systemd": b"no program"}),
            (
                ["mount-missing"],
                "session",
                {"etc/fstab": b"UUID=dead-beef /home ext4 defaults 0 2\n"},
            ),
        )
        for expected, phase, change in rows:
            with self.subTest(expected=expected, change=list(change)):
                self.check(expected, phase, change)

    @needs(*MAKERS)
    def test_a_row_of_fstab_stops_the_start_only_where_it_is_waited_for(self):
        lost = "UUID=dead-beef /home ext4 {} 0 2\n"
        mapped = "/dev/mapper/safe /safe ext4 defaults 0 2\n"
        rows = (
            (lost.format("defaults"), "", "mount-missing", True),
            (lost.format("nofail"), "", "mount-missing", False),
            (lost.format("noauto,x-systemd.automount"), "", "mount-missing", False),
            (lost.format("x-systemd.automount"), "", "mount-missing", False),
            (lost.format("rw,_netdev"), "", "mount-missing", False),
            (f"UUID={ROOT} /again xfs defaults 0 2\n", "", "mount-refused", True),
            (f"UUID={ROOT} /again xfs nofail 0 2\n", "", "mount-refused", False),
            (f"UUID={ROOT} /again auto defaults 0 2\n", "", "", False),
            (f"UUID={ROOT} /again ext3 defaults 0 2\n", "", "", False),
            (mapped, "", "mount-missing", True),
            (mapped, "safe UUID=dead-beef none luks\n", "unlock-missing", True),
            ("", "safe UUID=dead-beef none luks\n", "unlock-missing", False),
            (mapped.replace("defaults", "nofail"), "safe UUID=5 - luks\n", "unlock-missing", False),
        )
        for table, locks, kind, stops in rows:
            with self.subTest(table, locks=locks):
                change = {"etc/fstab": table.encode(), "etc/crypttab": locks.encode()}
                trace = self.check([kind] if stops else [], "session" if stops else None, change)
                self.assertEqual(ids(trace, "warning"), [kind] if kind and not stops else [])

    @needs(*MAKERS)
    def test_units_whose_program_is_gone_and_that_take_the_pc_with_them(self):
        lost = "[Service]\nExecStart=/usr/bin/tickets --all\n"
        there = lost.replace("/usr/bin/tickets", "/usr/lib/systemd/systemd")
        place = "usr/lib/systemd/system/ticket.service"
        wanted = "etc/systemd/system/multi-user.target.wants/ticket.service"
        drop_in = "etc/systemd/system/ticket.service.d/more.conf"
        ends, again = "[Unit]\nFailureAction=reboot\n", "StartLimitIntervalSec=0\n"
        rows = (
            ({place: ends + lost}, "unit-ends-start", True),
            ({place: ends + there}, "", False),
            ({place: lost}, "", False),
            ({place: lost, drop_in: ends}, "unit-ends-start", True),
            ({place: ends + lost, drop_in: "[Unit]\nFailureAction=none\n"}, "", False),
            ({place: ends + lost, drop_in: "[Unit]\nConditionPathExists=!/\n"}, "", False),
            ({place: ends + lost.replace("=/", "=-/")}, "", False),
            ({place: "[Unit]\nOnFailure=reboot.target\n" + lost}, "unit-ends-start", True),
            ({place: f"[Unit]\n{again}{lost}Restart=always\n"}, "unit-restarts", False),
            ({place: lost + "Restart=always\n"}, "", False),
        )
        for files, kind, stops in rows:
            with self.subTest(files):
                files = {drop_in: "", **files, wanted: files[place]}
                change = {path: text.encode() for path, text in files.items()}
                trace = self.check([kind] if stops else [], "session" if stops else None, change)
                self.assertEqual(ids(trace, "warning"), [kind] if kind and not stops else [])

    @needs(*MAKERS)
    def test_an_initramfs_is_held_against_what_the_root_needs(self):
        top = f"usr/lib/modules/{VERSION}"
        drivers = {
            f"{top}/kernel/fs/ext4/ext4.ko.zst": b"\x7fELF",
            f"{top}/kernel/fs/jbd2/jbd2.ko.zst": b"\x7fELF",
            f"{top}/kernel/drivers/ata/ahci.ko": b"\x7fELF",
            f"{top}/kernel/drivers/scsi/sd_mod.ko": b"\x7fELF",
            f"{top}/modules.builtin": b"kernel/crypto/crc32c_generic.ko\n",
            f"{top}/modules.dep": b"kernel/fs/ext4/ext4.ko.zst: kernel/fs/jbd2/jbd2.ko.zst\n",
            "init": b"#!/bin/sh\n",
        }
        built_in = {
            f"{top}/modules.builtin": b"kernel/fs/ext4/ext4.ko\nkernel/drivers/nvme/nvme.ko\n"
        }
        rows = (
            ((), {}, ""),
            (("ext4.ko.zst",), {}, "no driver for the file system ext"),
            (("jbd2.ko.zst",), {}, "not jbd2, which it builds on"),
            (("sd_mod.ko",), {}, "no driver for any kind of drive"),
            (("ahci.ko",), {}, "no driver for any kind of drive"),
            (("ext4.ko.zst", "jbd2.ko.zst", "ahci.ko"), built_in, ""),
            (("ext4.ko.zst", "modules.builtin"), {}, ""),  # nothing tells what is built in
        )
        for without, more, says in rows:
            kept = {
                name: data for name, data in drivers.items() if not name.endswith(without or "?")
            }
            for packed in (gzip.compress(cpio(kept | more)), cpio(kept | more)):
                with self.subTest(without=without):
                    fatal = ["initramfs-lacks-part"] if says else []
                    trace = self.check(fatal, "kernel" if says else None, {"boot/initrd": packed})
                    self.assertIn(says, trace.fatal[0].says if says else "")
        says = b"kernel/fs/btrfs/btrfs.ko\n"  # the root tells where the images do not
        quiet = {name: data for name, data in drivers.items() if not name.endswith("builtin")}
        del quiet[f"{top}/kernel/fs/ext4/ext4.ko.zst"]
        change = {"boot/initrd": cpio(quiet), f"{top}/modules.builtin": says}
        self.check(["initramfs-lacks-part"], "kernel", change)

    @needs(*MAKERS)
    def test_what_is_odd_but_does_not_stop_the_start_is_no_alarm(self):
        fstab = (
            b"UUID=dead-beef /mnt ext4 nofail 0 0\nLABEL=gone none swap sw 0 0\n/dev/sdb1 /tickets"
            b" ext4 defaults 0 0\n"
        )
        trace = self.check(
            ["mount-missing", "mount-missing", "mount-name-fragile"],
            None,
            {"etc/fstab": fstab},
            "warning",
        )
        self.assertEqual(trace.findings[0].where.line, 1)
        hopeful = MENU.replace("--hint-bios=hd0,msdos1  " + ROOT, "dead-beef").encode()
        self.check(
            ["grub-search-failed"],
            None,
            {"boot/grub/grub.cfg": hopeful, "etc/fstab": b""},
            "warning",
        )
        other = {
            "boot/grub/grub.cfg": MENU.encode(),
            "boot/initrd": gzip.compress(archive("5.10.0-old")),
        }
        self.check(["initramfs-other-kernel"], "loader", other)

    @needs(*MAKERS)
    def test_the_entry_that_starts_is_the_one_that_grub_would_take(self):
        env = b"# GRUB Environment Block\nsaved_entry=Older>Old\n####"
        trace = self.check(
            ["kernel-missing", "root-name-unknown"], "loader", {"boot/grub/grubenv": env}
        )
        self.assertIn("/boot/vmlinuz.old", trace.fatal[0].says)
        self.assertEqual(
            (trace.fatal[0].where.path, trace.fatal[0].where.line), ("/boot/grub/grub.cfg", 22)
        )

    @needs(*MAKERS)
    def test_entries_in_files_of_their_own(self):
        menu = f"load_env\nsearch --fs-uuid --set=root {ROOT}\ninsmod blscfg\nblscfg\n".encode()
        entry = (
            f"title Ferry\nlinux /boot/vmlinuz\ninitrd /boot/initrd\noptions root=UUID={ROOT} ro"
            " $more\n".encode()
        )
        files = {"boot/grub/grub.cfg": menu, "boot/loader/entries/ferry-6.9.conf": entry}
        self.check([], None, files)
        newer = entry.replace(b"/boot/vmlinuz", b"/boot/gone")
        self.check(
            ["kernel-missing"], "loader", {**files, "boot/loader/entries/ferry-6.10.conf": newer}
        )
        chosen = {"boot/grub/grubenv": b"# GRUB Environment Block\nsaved_entry=ferry-6.9\n"}
        menu = b"load_env\nset default=$saved_entry\n" + menu
        self.check(
            [],
            None,
            {
                **files,
                **chosen,
                "boot/loader/entries/ferry-6.10.conf": newer,
                "boot/grub/grub.cfg": menu,
            },
        )
        self.check(["grub-menu-empty"], "boot-manager", {"boot/grub/grub.cfg": menu})

    @needs(*MAKERS)
    def test_a_core_without_its_modules_folder_or_with_one_wrong_bit(self):
        self.check(["grub-modules-missing"], "boot-manager", modules=())
        path = self.disk(self.tree())
        patch(path, SECTOR + 60_000, bytes([path.read_bytes()[SECTOR + 60_000] ^ 4]))
        self.assertEqual(ids(trace_file(path), "fatal"), ["grub-core-damaged"])
        self.check(["grub-prefix-missing"], "boot-manager", prefix="(hd0,msdos3)/boot/grub")

    @needs(*MAKERS, "sgdisk")
    def test_grub_in_a_bios_boot_partition_of_a_gpt(self):
        files = {
            **self.tree(),
            "boot/grub/i386-pc/boot.img": (GRUB_FILES / "boot.img").read_bytes(),
        }
        sound = self.disk(files, prefix="(hd0,gpt2)/boot/grub", modules=(*MODULES, "part_gpt"))
        volume = sound.read_bytes()[START * SECTOR : START * SECTOR + 120_000 * SECTOR]
        path = self.folder / "gpt.img"
        path.write_bytes(bytes(70 << 20))
        tool(
            "sgdisk",
            "-a",
            "1",
            "-n",
            "1:40:2047",
            "-t",
            "1:ef02",
            "-n",
            f"2:{START}:{START + 119_999}",
            path,
        )
        patch(path, START * SECTOR, volume)
        core = bytearray((self.folder / "core").read_bytes())
        core[0x1F4:0x1FC] = (41).to_bytes(8, "little")
        patch(path, 40 * SECTOR, bytes(core))
        stage = bytearray((GRUB_FILES / "boot.img").read_bytes()[:440])
        stage[0x5C:0x64] = (40).to_bytes(8, "little")
        patch(path, 0, bytes(stage))
        trace = trace_file(path)
        self.assertEqual(
            (trace.firmware, trace.verdict, ids(trace)), ("bios", "no-fault-found", [])
        )
        patch(path, 0, bytes(440))
        trace = trace_file(path)
        self.assertEqual(
            (ids(trace, "fatal"), trace.fatal[0].repairs), (["boot-code-blank"], ("boot-code",))
        )
        self.json_here("mend", path, "boot-code", "--yes")
        self.assertEqual(trace_file(path).verdict, "no-fault-found")

    @needs(*MAKERS, "e2fsck")
    def test_a_root_without_its_superblock_is_fatal_and_mended(self):
        path = self.disk(self.tree())
        patch(path, START * SECTOR + 1024, bytes(1024))
        trace = trace_file(path)
        self.assertEqual(
            (trace.fatal[0].id, trace.fatal[0].repairs), ("grub-prefix-unreadable", ("superblock",))
        )
        done = self.json_here("mend", path, "--all", "--yes")
        self.assertEqual((done["failing_after"], done["after"]), (None, "no-fault-found"))


class LostEntries(Systems):
    @needs(*MAKERS)
    def test_an_entry_that_grub_needs_is_put_back_where_it_was(self):
        path = self.disk(self.tree())
        sound = path.read_bytes()
        rows = ((446, bytes(16)), (454, (START + 64).to_bytes(4, "little")))
        for at, change in rows:
            path.write_bytes(sound)
            patch(path, at, change)
            self.assertEqual(trace_file(path).failing_phase, "boot-manager")
            done = self.json_here("mend", path, "--all", "--yes")
            steps = [step["repair"] for step in done["steps"]]
            self.assertEqual((done["after"], steps), ("no-fault-found", ["partition-table"]))
            after = path.read_bytes()
            self.assertEqual(after[454:458], sound[454:458])
            self.assertEqual((after[:440], after[510:]), (sound[:440], sound[510:]))


class Names(Systems):
    WRONG = "5ea00000-0000-4000-8000-0000000000ff"

    def mended(self, path, *wanted):
        broken = sha(path)
        done = self.json_here("mend", path, "root-name", "--yes")
        self.assertEqual((done["failing_after"], done["after"]), (None, "no-fault-found"))
        self.assertEqual(ids(trace_file(path), "fatal"), [])
        volume = self.folder / "volume"
        volume.write_bytes(path.read_bytes()[START * SECTOR : START * SECTOR + 58_000 * 1024])
        for name, text in wanted:
            self.assertEqual(tool("debugfs", "-R", f"cat {name}", volume), text)
        self.assertIn("non-contiguous", tool("e2fsck", "-fn", volume))
        self.run_here("undo", path)
        self.assertEqual(sha(path), broken)

    @needs(*MAKERS, "e2fsck", "debugfs")
    def test_a_root_that_is_not_there_is_named_anew_wherever_the_wrong_name_stands(self):
        files = self.tree()
        files["boot/grub/grub.cfg"] = MENU.replace(ROOT, self.WRONG).encode()
        path = self.disk(files)
        self.assertEqual(trace_file(path).fatal[0].repairs, ("root-name",))
        self.mended(path, ("/boot/grub/grub.cfg", MENU))
        files["boot/grub/grub.cfg"] = MENU.replace(
            f"root=UUID={ROOT}", "root=PARTUUID=11112222-01"
        ).encode()
        path = self.disk(files)
        patch(path, 440, b"\xce\xf1\x0f\x5c")
        self.mended(
            path,
            ("/boot/grub/grub.cfg", MENU.replace(f"root=UUID={ROOT}", "root=PARTUUID=5c0ff1ce-01")),
        )

    @needs(*MAKERS, "e2fsck", "debugfs")
    def test_a_mount_that_is_not_there(self):
        files = self.tree()
        row = f"UUID={ROOT} / ext4 defaults 0 1\nUUID={{}} /tickets ext4 defaults 0 2\n"
        files["etc/fstab"] = row.format(self.WRONG).encode()
        path = self.disk(files)
        self.assertIn(
            "No volume could be meant", self.run_here("mend", path, "root-name", "--yes", expect=4)
        )
        second = ROOT.replace("c0de", "beef")
        tool(
            "mke2fs",
            "-q",
            "-F",
            "-t",
            "ext4",
            "-U",
            second,
            "-E",
            f"offset={122_880 * SECTOR}",
            path,
            "3000k",
        )
        patch(path, 462, struct.pack("<B3xB3xII", 0, 0x83, 122_880, 6_000))
        self.mended(path, ("/etc/fstab", row.format(second)))

    @needs(*MAKERS, "fuse2fs")
    @needs_mounts
    def test_a_longer_name_is_written_by_the_volumes_driver(self):
        files = self.tree()
        files["boot/grub/grub.cfg"] = MENU.replace(ROOT, "c0de-short").encode()
        path = self.disk(files)
        before = sha(path)
        done = self.json_here("mend", path, "root-name", "--yes", "--mount")
        self.assertEqual(done["after"], "no-fault-found")
        self.run_here("undo", path)
        self.assertEqual(sha(path), before)

    @needs(*MAKERS, "debugfs")
    def test_it_is_refused_with_a_reason(self):
        path = self.disk(self.tree())
        self.assertIn(
            "nothing to write", self.run_here("mend", path, "root-name", "--yes", expect=4)
        )
        files = self.tree()
        files["boot/grub/grub.cfg"] = MENU.replace(ROOT, "short").encode()
        path = self.disk(files)
        self.assertIn("--mount", self.run_here("mend", path, "root-name", "--yes", expect=4))
        files["boot/grub/grub.cfg"] = MENU.replace(ROOT, self.WRONG).encode()
        path = self.disk(files)
        state = START * SECTOR + 1024 + 58
        patch(path, state, b"\0")
        self.assertIn("checksum", " ".join(ids(trace_file(path))))
        self.assertIn(
            "not closed properly", self.run_here("mend", path, "root-name", "--yes", expect=4)
        )


class Readers(unittest.TestCase):
    @given(st.binary(max_size=600))
    @settings(max_examples=200)
    def test_any_bytes_are_read(self, data):
        for text in (data, MENU.encode()[: len(data)] + data):
            self.assertIsInstance(grub.read_menu(text).tree, tuple)
        self.assertTrue(bzimage.read(Window(data), len(data)).problems)
        initramfs.read(data)
        boot_menus.read_entry(data, "x.conf")
        grub.read_image(b"mimg" + data)
        grub.unpack_core(data)
        list(mount_table(data.decode("utf-8", errors="replace")))

    def test_every_packing_is_walked_and_a_cut_one_is_told(self):
        plain = archive()
        block = lz4.block.compress(plain, store_size=False)
        packed = {
            "gzip": gzip.compress(plain),
            "xz": lzma.compress(plain, check=lzma.CHECK_CRC32),
            "zstd": zstandard.compress(plain),
            "lzma": lzma.compress(plain, lzma.FORMAT_ALONE),
            "lz4": b"\x02\x21\x4c\x18" + len(block).to_bytes(4, "little") + block,
        }
        early = cpio(["kernel/x86/microcode/x.bin"])
        for kind, data in packed.items():
            for front, archives in ((b"", 1), (early + bytes(400), 2)):
                record, problems = initramfs.read(front + data)
                self.assertEqual(
                    (problems, record.kind, record.archives), ((), kind, archives), kind
                )
                self.assertEqual(record.module_versions, {VERSION})
            _, problems = initramfs.read(early + data[: len(data) - 12])
            self.assertEqual([problem.code for problem in problems], ["cut-short"], kind)
            for at in range(4, len(data) - 1, max(1, len(data) // 40)):
                torn = data[:at] + bytes([data[at] ^ 0xFF, data[at + 1] ^ 0xA5]) + data[at + 2 :]
                with self.subTest(kind, at=at):
                    self.assertIsInstance(initramfs.read(torn)[1], tuple)
        self.assertEqual(initramfs.read(plain)[0].archives, 1)

    def test_names_and_options(self):
        for text, kind, value in (
            (f"UUID={ROOT}", "uuid", ROOT),
            ('LABEL="Holm pier"', "label", "Holm pier"),
            ("/dev/disk/by-partuuid/5c0ff1ce-01", "partuuid", "5c0ff1ce-01"),
            ("/dev/sda2", "device", "/dev/sda2"),
            ("/dev/nvme0n1p3", "device", "/dev/nvme0n1p3"),
            ("/dev/mapper/holm-root", "mapped", "holm-root"),
            ("/dev/holm-pier/root", "mapped", "holm--pier-root"),
        ):
            self.assertEqual((parse_name(text).kind, parse_name(text).value), (kind, value))
        self.assertEqual(option("ro root=A quiet root=B", "root"), "B")
        self.assertIsNone(option("ro", "root"))

    @given(st.text("abc '\"${}\\;#\n=", max_size=60))
    def test_a_menu_of_any_signs_ends(self, text):
        menu = grub.read_menu(text.encode())
        self.assertTrue(menu.damaged_line is None or menu.damaged_line >= 1)


if __name__ == "__main__":
    unittest.main()
