"""Behind the root: init and its loader, modules, mounts, the default target, room, sign-in; other
words.
"""

import unittest

from mending.boot.linux import read_accounts
from mending.formats import elf
from mending.model import Window
from tests.support import SECTOR, START, ids, needs, patch, tool, trace_file
from tests.systems import MAKERS, MENU, PASSWD, ROOT, VERSION, Systems, program

TARGET = "usr/lib/systemd/system/desk.target"
MODULES = f"usr/lib/modules/{VERSION}/modules.dep"


def words(more):
    return {"boot/grub/grub.cfg": MENU.replace(" quiet", f" quiet {more}", 1).encode()}


class Behind(Systems):
    @needs(*MAKERS)
    def test_a_sound_system_is_followed_to_the_sign_in(self):
        trace = self.check([], None)
        says = " ".join(check.says for check in trace.checks)
        for wanted in (
            f"modules are in /usr/lib/modules/{VERSION}",
            "default target is /usr/lib/systemd/system/",
            "free on the root",
            "/usr/bin/sh can be run",
        ):
            self.assertIn(wanted, says)
        self.assertEqual({phase.id: phase.state for phase in trace.phases}["session"], "passed")

    @needs(*MAKERS)
    def test_what_keeps_the_start_from_its_sign_in_is_found(self):
        other = bytearray(program())
        other[18] = 183
        rows = (
            (["init-damaged"], "kernel", {"usr/lib/systemd/systemd": bytes(other)}),
            (["init-loader-missing"], "kernel", {"usr/lib64/ld.so": None}),
            (
                ["init-loader-missing"],
                "kernel",
                {"usr/lib/systemd/systemd": b"#!/usr/bin/gone -x\n"},
            ),
            (["goal-missing"], "session", {TARGET: None}),
            (["accounts-damaged"], "session", {"etc/passwd": None}),
            (["accounts-damaged"], "session", {"etc/passwd": bytes(300)}),
            (
                ["accounts-damaged"],
                "session",
                {"etc/passwd": PASSWD.replace(b"root:x:0", b"root:x:5")},
            ),
            (["accounts-damaged"], "session", {"etc/shadow": None}),
            (["shell-unfit", "shell-unfit"], "session", {"usr/bin/sh": None}),
            (["shell-unfit", "shell-unfit"], "session", {"usr/bin/sh": b"gone to sea"}),
            (["start-diverted"], "session", words("emergency")),
            (["start-diverted"], "session", words("systemd.unit=rescue.target")),
        )
        for expected, phase, change in rows:
            with self.subTest(expected=expected, change=list(change)):
                self.check(expected, phase, change)

    @needs(*MAKERS)
    def test_what_only_hinders_is_a_warning(self):
        broken = PASSWD.replace(b"/home/desk:/bin/sh", b"/home/desk:/bin/zsh") + b"half a li"
        rows = (
            (["modules-missing"], {MODULES: None, "usr/lib/modules/5.0/modules.dep": b""}),
            (["root-read-only"], {"etc/fstab": f"UUID={ROOT} / ext4 ro 0 1\n".encode()}),
            (["account-row", "shell-unfit"], {"etc/passwd": broken}),
            (
                ["unlock-missing"],
                {"etc/crypttab": b"cargo UUID=dead-beef none luks\nx UUID=0 - nofail,\n"},
            ),
            (["sign-in-barred"], {"etc/nologin": b"Closed for the storm.\n"}),
            (["resume-missing"], words("resume=UUID=dead-beef")),
            (
                ["unlock-missing", "group-missing", "group-missing"],
                words("rd.luks.uuid=luks-0123 rd.lvm.vg=holm rd.lvm.lv=holm/root"),
            ),
        )
        for expected, change in rows:
            with self.subTest(expected=expected):
                self.check(expected, None, change, "warning")
                for name in change:
                    (self.folder / "tree" / name).unlink(missing_ok=True)

    @needs(*MAKERS, "debugfs")
    def test_a_full_root_and_one_that_is_never_written(self):
        path = self.disk(self.tree())
        volume = f"{path}?offset={START * SECTOR}"
        for change, expected in (
            ("feature read-only", "root-read-only"),
            ("ssv free_blocks_count 40", "root-full"),
            ("ssv free_inodes_count 0", "root-full"),
        ):
            broken = self.folder / "broken.img"
            broken.write_bytes(path.read_bytes())
            tool("debugfs", "-w", "-R", change, volume.replace(str(path), str(broken)))
            self.assertEqual(
                (ids(trace_file(broken)), trace_file(broken).verdict),
                ([expected], "no-fault-found"),
            )

    @needs(*MAKERS)
    def test_programs_on_a_volume_of_their_own_are_no_fault(self):
        table = {
            "etc/fstab": (
                f"UUID={ROOT} / ext4 defaults 0 1\nLABEL=PROGRAMS /usr ext4 nofail 0 2\n".encode()
            )
        }
        for gone in (("usr/lib/systemd/systemd", "usr/bin/sh"), (TARGET,)):
            files = {
                name: data for name, data in {**self.tree(), **table}.items() if name not in gone
            }
            trace = trace_file(self.disk(files))
            self.assertEqual((trace.verdict, ids(trace, "fatal")), ("unsure", []))

    @needs(*MAKERS)
    def test_a_root_inside_other_volumes(self):
        rows = (
            ("/dev/mapper/holm-root", ["root-missing"], "fails"),
            ("/dev/holm/root", ["root-missing"], "fails"),
            ("ZFS=holm/root", ["root-not-checked"], "unsure"),
            ("/dev/sda1", ["root-name-fragile"], "no-fault-found"),
            ("/dev/nvme0n1p7", ["root-name-fragile"], "unsure"),
        )
        for name, expected, verdict in rows:
            change = {
                "boot/grub/grub.cfg": MENU.replace(f"root=UUID={ROOT}", f"root={name}").encode()
            }
            trace = trace_file(self.disk({**self.tree(), **change}))
            self.assertEqual((ids(trace), trace.verdict), (expected, verdict))
        locked = self.disk({**self.tree(), **change})
        text = MENU.replace(f"root=UUID={ROOT}", "root=/dev/mapper/desk rd.luks.name=5EA0=desk")
        locked = self.disk({**self.tree(), "boot/grub/grub.cfg": text.encode()})
        patch(
            locked,
            462,
            (0x83 << 32).to_bytes(8, "little") + (122_880).to_bytes(4, "little") + b"\x00\x10\0\0",
        )
        header = b"LUKS\xba\xbe\0\2" + bytes(160) + b"5ea00000-0000-4000-8000-00000000cafe"
        patch(locked, 122_880 * SECTOR, header.ljust(4096, b"\0"))
        trace = trace_file(locked)
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "unsure"))
        self.assertIn("cannot be read without its key", trace.findings[0].says)


class Small(unittest.TestCase):
    def test_programs_and_accounts(self):
        self.assertEqual(elf.read(Window(program("/lib/x"))).record, elf.Program(62, "/lib/x"))
        self.assertEqual(elf.read(Window(program(""))).record.interpreter, "")
        narrow = bytearray(b"\x7fELF\1\1\1".ljust(16, b"\0") + bytes(100))
        narrow[18], narrow[28], narrow[42], narrow[44], narrow[52] = 3, 52, 32, 1, 3
        narrow[56], narrow[68], narrow[84:87] = 84, 3, b"/l\0"
        self.assertEqual(elf.read(Window(bytes(narrow))).record, elf.Program(3, "/l"))
        self.assertTrue(elf.read(Window(b"MZ")).problems)
        rows = read_accounts(PASSWD.decode().splitlines())
        self.assertEqual([(row.name, row.line) for row in rows], [("root", 1), ("desk", 2)])


if __name__ == "__main__":
    unittest.main()
