"""Disks of the nt family mended by the installed program: every fault, what an independent reader
sees changed, the way back, and what each repair never does.
"""

import hashlib
import os
import re
import struct
import unittest
import uuid
from functools import partialmethod
from pathlib import Path

import pybde

from mending.disk.hives import new_hive
from mending.formats import boot_store
from mending.formats.boot_store import StoreDevice
from mending.model import FINDINGS
from mending.source import MemorySource
from mending.workshop import nt as tree
from mending.workshop.disks import DESK, DISK_GUID, MARKER
from mending.workshop.nt import hive_bytes
from tests import nt_faults
from tests.independent_reader import IndependentReader
from tests.machine import OVMF, QEMU, screen_of
from tests.nt_faults import FAULTS, HERE, LETTERS, LOADERS
from tests.nt_pc import BASE, PROGRAMS, SOFTWARE, STORES, SYSTEM, SYSTEM_AT, SYSTEM_BYTES, NtPc
from tests.nt_pc import put_by_driver as put_there
from tests.samples import needs_samples
from tests.support import (
    EVERY,
    InFolder,
    ids,
    mounted,
    needs,
    needs_mounts,
    refused,
    sha,
    tool,
    trace_file,
    tree_of,
)
from tests.test_encrypted_nt import PASSWORD, lock
from tests.test_hive_writer import oracle
from tests.test_hives import ORACLE

ANSWERS = {
    # what a person is asked, and says
    "filter of volumes left behind": ("--driver", "quayvol"),
    "system hive cut": ("--from", "healthy.zip"),
}
STARTED = {
    "boot code blank",
    "no active entry",
    "no loader on the ESP",
    "manager missing",
    "manager empty",
}
"""After these the stub that was reached before the fault starts again, by real firmware."""
SOUND = nt_faults.SOUND_TREE
REACHED = MARKER.rstrip(".")
CONFIG = f"{BASE}/config"
SECTOR = 512


def set_of(pc, path):
    """What an independent reader finds in a hive on the system's volume."""
    with pc.path.open("rb") as disk:
        disk.seek(SYSTEM_AT)
        volume = MemorySource(disk.read(SYSTEM_BYTES))
    return set(oracle(IndependentReader(volume, 0, "NTFS").read(f"/{path}", 1 << 20)))


def store_of(pc):
    return set(oracle(pc.read_desk(STORES[pc.firmware])))


def row(path, name, kind, data):
    return repr((path, name, kind, hashlib.sha256(data).hexdigest()))


def number(path, name, value):
    return row(path, name, 4, value.to_bytes(4, "little"))


def text(path, name, words):
    return row(path, name, 1, f"{words}\0".encode("utf-16-le"))


class Mended(InFolder):
    def mend(self, pc, *words, **more):
        return self.json_here("mend", pc.path, *words, "--yes", **more)

    def files_of(self, pc):
        """All files as other programs read them: the system's volume by its driver, the other one
        by a library.
        """
        volume = self.folder / "seen"
        with pc.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            volume.write_bytes(disk.read(SYSTEM_BYTES))
            disk.seek(DESK[0] * SECTOR)
            desk = MemorySource(disk.read(DESK[1] * SECTOR))
        with mounted(volume, "ntfs") as top:
            found = {name: seen[-1] for name, seen in tree_of(top).items()}
        reader, waiting = IndependentReader(desk, 0, "FAT32"), ["/"]
        while waiting:
            folder = waiting.pop()
            for name, size, is_folder, _, _ in reader.listing(folder):
                path = f"{folder.rstrip('/')}/{name}"
                if is_folder:
                    waiting.append(path)
                elif not name.startswith("$"):
                    found[path] = reader.read(path, size) if size else b""
        return found


@needs(*PROGRAMS, QEMU, OVMF)
@needs_mounts
class Faults(Mended):
    """Every fault is found, mended in one go and taken back: a test for each."""

    tried, seen = set[object](), set[object]()

    def check_fault(self, firmware, what, break_it, phase, kind):
        pc = NtPc(self.folder, firmware)
        words = list(ANSWERS.get(what, ()))
        if "healthy.zip" in words:
            words[-1] = self.folder / f"{firmware}.zip"
            self.run_here("keep", pc.path, "-o", words[-1])
        break_it(pc)
        trace = trace_file(pc.path)
        self.assertEqual((trace.verdict, trace.failing_phase), ("fails", phase))
        self.assertEqual(ids(trace, "fatal"), [kind])
        answers = FINDINGS[kind].repairs
        asked = what in {*ANSWERS, *STARTED}
        if answers in self.tried and not asked and not EVERY:
            return  # traced only: one fault of each list of repairs is mended
        self.tried.add(answers)
        broken, kept = sha(pc.path), pc.path.read_bytes()
        told = self.mend(pc, "--all", "--mount", *words)
        self.assertEqual((told["after"], refused(told)), ("no-fault-found", ""))
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")
        repairs = tuple(step["repair"] for step in told["steps"]), firmware
        if repairs not in self.seen:
            self.seen.add(repairs)
            after = self.files_of(pc)
            mended = pc.path.read_bytes()
            pc.path.write_bytes(kept)
            self.check_only_announced(told, self.files_of(pc), after)
            pc.path.write_bytes(mended)
        if what in STARTED:
            self.assertIn(REACHED, screen_of(pc.path, firmware, REACHED))
        for _ in told["steps"]:
            self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), broken)

    def test_there_are_faults_of_every_kind(self):
        self.assertGreaterEqual(len(FAULTS), 40)

    def check_only_announced(self, told, before, after):
        """Every file that is otherwise is named by the repair that changed it."""
        said = " ".join(
            f"{step['says']} {write['says']}" for step in told["steps"] for write in step["writes"]
        ).casefold()
        for name in {*before, *after}:
            if before.get(name) != after.get(name):
                self.assertIn(Path(name).name.casefold(), said)


for _fault in FAULTS:
    _name = re.sub(r"\W+", "_", f"test_{_fault[0]}_{_fault[1]}")
    setattr(Faults, _name, partialmethod(Faults.check_fault, *_fault))


@needs(*PROGRAMS, ORACLE)
class Settings(Mended):
    """Each repair of settings: what hivex sees of it, and undo to the last byte."""

    def changed(self, pc, path, *words, expect_store=False):
        """What is new in a hive after a repair, and what is gone; then all is taken back."""
        read = (lambda: store_of(pc)) if expect_store else (lambda: set_of(pc, path))
        sum_before, before = sha(pc.path), read()
        told = self.mend(pc, *words)
        self.assertTrue(told["done"])
        self.assertEqual(told["proof"][:2], ["read back", "traced again"])
        after = read()
        self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), sum_before)
        self.run_here("undo", pc.path, "--redo")
        return after - before, before - after

    def test_another_control_set(self):
        pc = NtPc(self.folder, "uefi")
        nt_faults.settings(nt_faults.selects_another)(pc)
        new, gone = self.changed(pc, SYSTEM, "control-set")
        self.assertEqual(
            new,
            {
                number("\\Select", "Current", 2),
                number("\\Select", "Default", 2),
                number("\\Select", "Failed", 7),
            },
        )
        self.assertEqual(len(gone), 3)
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")

    def test_a_driver_is_turned_off_and_leaves_the_filters(self):
        pc = NtPc(self.folder, "uefi")

        def camera(keys):
            services = keys["ControlSet001"]["Services"]
            services["berthcam"] = tree.service(0, 1, 3, Group="Extra")
            keys["ControlSet001"]["Control"]["Class"][tree.DISKS]["LowerFilters"] = [
                "berthcam",
                "quaydisk",
            ]

        nt_faults.settings(camera)(pc)
        self.assertEqual(ids(trace_file(pc.path), "fatal"), ["boot-driver-missing"])
        new, gone = self.changed(pc, SYSTEM, "driver-off")
        both = ("\\ControlSet001", "\\ControlSet002")  # the workshop writes one key for both
        filters = "".join(f"{name}\0" for name in ("quaydisk", "")).encode("utf-16-le")
        self.assertEqual(
            new,
            {
                number(f"{both[0]}\\Services\\berthcam", "Start", 4),
                row(f"{both[0]}\\Control\\Class\\{tree.DISKS}", "LowerFilters", 7, filters),
            },
        )
        self.assertEqual(len(gone), 2)
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")

    def test_a_storage_driver_starts(self):
        pc = NtPc(self.folder, "bios")
        new, gone = self.changed(pc, SYSTEM, "driver-start")
        place = "\\ControlSet001\\Services\\quaymode"
        self.assertEqual((new, gone), ({number(place, "Start", 0)}, {number(place, "Start", 3)}))

    def test_what_the_next_start_does_and_the_usual_one_after_it(self):
        pc = NtPc(self.folder, "uefi")
        entry = f"\\Objects\\{tree.ENTRY}\\Elements"
        new, gone = self.changed(
            pc, "", "start-setting", "--want", "fewest-drivers", expect_store=True
        )
        self.assertEqual(
            new,
            {
                row(f"{entry}\\25000080", "Element", 3, bytes(8)),
                repr((f"{entry}\\25000080", 1)),
            },
        )
        self.assertEqual(gone, set())
        self.assertEqual(ids(trace_file(pc.path)), ["start-setting-left"])
        for want, path, name, value in (
            ("stop-stays", "CrashControl", "AutoReboot", 0),
            ("no-hybrid", "Session Manager\\Power", "HiberbootEnabled", 0),
        ):
            new, _ = self.changed(pc, SYSTEM, "start-setting", "--want", want)
            self.assertIn(number(f"\\ControlSet001\\Control\\{path}", name, value), new)
        self.mend(pc, "start-setting", "--want", "usual")
        self.assertEqual(ids(trace_file(pc.path)), [])
        self.assertIn(
            number("\\ControlSet001\\Control\\CrashControl", "AutoReboot", 1), set_of(pc, SYSTEM)
        )
        self.mend(pc, "start-setting", "--want", "no-hybrid", expect=4)
        self.mend(pc, "start-setting", "--want", "tea", expect=2)

    def test_left_over_settings_are_taken_out(self):
        pc = NtPc(self.folder, "uefi")
        pc.store(nt_faults.safe_mode("uefi"))
        nt_faults.settings(nt_faults.checking)(pc)
        told = self.mend(pc, "--all")
        self.assertEqual([step["repair"] for step in told["steps"]], ["start-setting"])
        self.assertEqual(ids(trace_file(pc.path)), [])

    @needs_mounts
    def test_a_half_done_update_is_kept_beside(self):
        pc = NtPc(self.folder, "uefi")
        content = b"<pending>" + bytes(range(256)) * 20
        nt_faults.write({"ferry/winsxs/pending.xml": content})(pc)
        before = sha(pc.path)
        self.mend(pc, "pending-drop", "--mount")
        seen = self.files_of(pc)
        self.assertEqual(seen["ferry/winsxs/pending.xml.aside"], content)
        self.assertNotIn("ferry/winsxs/pending.xml", seen)
        self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), before)

    def test_the_letter_is_led_back(self):
        pc = NtPc(self.folder, "bios")
        nt_faults.settings(nt_faults.letter_moved)(pc)
        new, gone = self.changed(pc, SYSTEM, "drive-letter")
        place, other = "\\MountedDevices", tree.letter_on_mbr(1, 1 << 20)
        self.assertEqual(
            new,
            {
                row(place, "\\DosDevices\\C:", 3, LETTERS["bios"]),
                row(place, "\\DosDevices\\D:", 3, other),
            },
        )
        self.assertEqual(len(gone), 2)

    def test_the_sign_in_runs_its_own_programs(self):
        pc = NtPc(self.folder, "bios")
        nt_faults.software(user_init="C:\\ferry\\system32\\greeter.exe,")(pc)
        new, _ = self.changed(pc, SOFTWARE, "sign-in-program")
        place = "\\Skerrivane\\Harbour\\CurrentVersion\\Winlogon"
        self.assertEqual(new, {text(place, "Userinit", "C:\\ferry\\system32\\userinit.exe,")})

    def test_what_waits_is_set_aside_complete(self):
        pc = NtPc(self.folder, "uefi")

        def both(keys):
            nt_faults.renames(keys)
            nt_faults.setup_runs(keys)

        nt_faults.settings(both)(pc)
        kept = [each for each in set_of(pc, SYSTEM) if "welcome" in each or "Pending" in each]
        new, _ = self.changed(pc, SYSTEM, "pending-drop")
        names = {eval(each)[1] for each in new if len(eval(each)) > 2}
        self.assertEqual(
            names,
            {
                "PendingFileRenameOperations.aside",
                "SystemSetupInProgress.aside",
                "SystemSetupInProgress",
                "SetupType.aside",
                "SetupType",
                "CmdLine.aside",
                "CmdLine",
            },
        )
        sums = {eval(each)[-1] for each in new}
        self.assertLessEqual({eval(each)[-1] for each in kept if len(eval(each)) > 2}, sums)
        self.assertNotIn("setup-unfinished", ids(trace_file(pc.path)))

    def test_devices_of_a_copied_disk(self):
        pc = NtPc(self.folder, "bios")
        other = StoreDevice("partition", "0badd15c", offset=SYSTEM_AT)
        pc.store(nt_faults.entry("bios", other))
        new, gone = self.changed(pc, "", "store-device", expect_store=True)
        raw = boot_store.encode_device(HERE["bios"])
        place = f"\\Objects\\{tree.ENTRY}\\Elements"
        self.assertEqual(
            new,
            {
                row(f"{place}\\{element:08x}", "Element", 3, raw)
                for element in (boot_store.DEVICE, boot_store.SYSTEM_DEVICE)
            },
        )
        self.assertEqual(len(gone), 2)


@needs(*PROGRAMS)
@needs_mounts
class Managers(Mended):
    def test_what_lies_beside_a_manager_comes_with_it(self):
        loaders = ("EFI/BOOT/BOOTX64.EFI", "EFI/HARBOUR/BOOT/HARBOUR.EFI")
        for firmware, kept, broken, home in (
            ("uefi", "ferry/boot/efi", loaders, "EFI/HARBOUR/BOOT"),
            ("bios", "ferry/boot/pcat", ("BOOTMGR",), "BOOT"),
        ):
            pc = NtPc(self.folder, firmware)
            parts = {"en/words.mui": b"Good morning", "tide.bin": bytes(5000) + b"x"}
            put_there(pc, {f"{kept}/{name}": data for name, data in parts.items()})
            for name in broken:
                pc.desk(name, None)
            before = sha(pc.path)
            told = self.mend(pc, "--all")
            self.assertIn("2 files beside it", told["steps"][0]["says"])
            self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")
            for name, data in parts.items():
                self.assertEqual(pc.read_desk(f"{home}/{name}"), data)
            self.run_here("undo", pc.path)
            self.assertEqual(sha(pc.path), before)


@needs(*PROGRAMS)
class Moved(Mended):
    """Sound disks that came into other company: a copy of another identity, a controller of another
    mode.
    """

    def test_a_copy_of_another_identity(self):
        for firmware in ("bios", "uefi"):
            pc = NtPc(self.folder, firmware)
            if firmware == "bios":
                pc.put(440, bytes.fromhex("c10fe15e"))
            else:
                nt_faults.store(
                    lambda how: nt_faults.entry(
                        how, StoreDevice("partition", str(DISK_GUID), str(uuid.UUID(int=7)))
                    )
                )(pc)
            told = self.mend(pc, "--all")
            steps = [step["repair"] for step in told["steps"]]
            wanted = ["store-device", "drive-letter"] if firmware == "bios" else ["store-device"]
            self.assertEqual(steps, wanted)
            self.assertIn("volume 2", told["steps"][0]["says"])
            found = trace_file(pc.path)
            self.assertEqual((found.verdict, ids(found)), ("no-fault-found", []))

    def test_a_controller_of_another_mode(self):
        pc = NtPc(self.folder, "bios")
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")
        shown = " ".join(self.run_here("mend", pc.path, "driver-start", "--dry-run").split())
        self.assertIn("quaymode starts with the kernel (it had start 3)", shown)
        self.assertIn("tried in memory only; traced again", shown)
        self.mend(pc, "driver-start")
        self.assertIn("quaymode", str(trace_file(pc.path).checks))


def put_log(pc, base=None):
    """Give the system hive a log that finishes its last write; returns the finished hive."""
    keys = tree.system_keys(LETTERS[pc.firmware])
    keys["Setup"]["CmdLine"] = "later"
    later = bytearray(tree.hive(keys))
    now = bytearray(tree.hive(tree.system_keys(LETTERS[pc.firmware])))
    length = int.from_bytes(now[40:44], "little")
    assert now[40:44] == later[40:44]
    numbers(now, 5, 4)
    head = bytearray(later[:512])
    numbers(head, 5, 5, kind=1)
    changed = [
        at for at in range(0, length, 512) if now[4096 + at :][:512] != later[4096 + at :][:512]
    ]
    marks = bytearray(length // 512)
    for at in changed:
        marks[at // 512] = 1
    bits = int("".join(str(mark) for mark in reversed(marks)), 2)
    log = bytes(head) + (b"DIRT" + bits.to_bytes(-(-len(marks) // 8), "little")).ljust(512, b"\0")
    log += b"".join(bytes(later[4096 + at :][:512]) for at in changed)
    pc.write({SYSTEM: bytes(now), f"{SYSTEM}.LOG": base or log})
    return later


@needs(*PROGRAMS, ORACLE)
class Logs(Mended):
    """A write that was cut off: a log beside the hive finishes it."""

    def test_it_is_laid_in_and_an_older_one_is_not(self):
        pc = NtPc(self.folder, "uefi")
        later = put_log(pc)
        told = self.mend(pc, "hive-log")
        self.assertIn("1 writes", told["says"])
        self.assertEqual(set_of(pc, SYSTEM), set(oracle(bytes(later))))
        self.mend(pc, "hive-log", expect=4)
        old = NtPc(self.folder, "uefi")
        older = bytearray(512)
        older[:] = tree.hive({"A": {}})[:512]
        numbers(older, 2, 2, kind=1)
        put_log(old, bytes(older) + b"DIRT" + b"\xff" * 508 + bytes(4096))
        self.mend(old, "hive-log", expect=4)

    def test_the_log_of_another_hive_is_refused(self):
        pc = NtPc(self.folder, "uefi")
        put_log(pc)
        reader = IndependentReader(MemorySource(self.volume(pc)), 0, "NTFS")
        log = bytearray(reader.read(f"/{SYSTEM}.LOG", 1 << 20))
        log[48:64] = "SOFTWARE".encode("utf-16-le")
        numbers(log, 5, 5, kind=1)
        pc.write({f"{SYSTEM}.LOG": bytes(log)})
        before = sha(pc.path)
        self.assertIn("belongs to another hive", self.mend(pc, "hive-log", expect=4)["says"])
        self.assertEqual(sha(pc.path), before)

    def volume(self, pc):
        with pc.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            return disk.read(SYSTEM_BYTES)


def numbers(data, first, second, kind=0):
    """Numbers of writes, and a checksum that fits."""
    data[4:8], data[8:12] = first.to_bytes(4, "little"), second.to_bytes(4, "little")
    data[28:32] = kind.to_bytes(4, "little")
    total = 0
    for at in range(0, 508, 4):
        total ^= int.from_bytes(data[at : at + 4], "little")
    data[508:512] = total.to_bytes(4, "little")


def crashing_log():
    """A kernel log of a PC that ran well in January 2025 and fails every hour of three days in
    February.
    """
    rows = []
    for day in range(1, 29):
        rows.append(f"2025-01-{day:02}T08:00:00+00:00 desk kernel: Linux version 6.1.0-ferry")
        rows.append(f"2025-01-{day:02}T18:00:00+00:00 desk kernel: reboot: Power down")
    for day in range(1, 4):
        for hour in range(8, 18):
            at = f"2025-02-{day:02}T{hour:02}"
            rows.append(f"{at}:00:00+00:00 desk kernel: Linux version 6.1.0-ferry")
            rows.append(
                f"{at}:50:00+00:00 desk kernel: Kernel panic - not syncing: Fatal exception"
            )
    return "\n".join(rows) + "\n"


@needs(*PROGRAMS)
@needs_mounts
class HiveSets(Mended):
    def test_a_set_beside_is_offered_with_its_losses_and_put_back(self):
        pc = NtPc(self.folder, "uefi")
        letter = LETTERS["uefi"]
        older = {name: tree.hive({name: {}}) for name in tree.HIVES[2:]}
        older |= {
            "SYSTEM": tree.hive(tree.system_keys(letter, {"ticketd": None})),
            "SOFTWARE": tree.hive(tree.software_keys()),
        }
        put_there(pc, {f"{CONFIG}/keepsake/{name}": data for name, data in older.items()})
        pc.write({SYSTEM: nt_faults.SOUND_TREE[SYSTEM][:9000]})
        asked = self.json_here("mend", pc.path, "--all", "--mount", "--yes", expect=4)
        self.assertIn("Which moment is put back", refused(asked))
        self.assertIn("--hives /ferry/system32/config/keepsake", refused(asked))
        broken = sha(pc.path)
        words = ("--all", "--mount", "--hives", "/ferry/system32/config/keepsake")
        told = self.mend(pc, *words)
        self.assertEqual(told["after"], "no-fault-found")
        seen = self.files_of(pc)
        kept = next(name for name in seen if name.startswith(f"{CONFIG}/before-"))
        self.assertEqual(seen[f"{kept}/SYSTEM"], nt_faults.SOUND_TREE[SYSTEM][:9000])
        self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), broken)

    def test_the_newest_from_before_the_failing_began_is_named(self):
        pc, case = NtPc(self.folder, "uefi"), self.folder / "case"
        for place, written in (("keepsake", tree.WRITTEN), ("later", tree.WRITTEN + 10**16)):
            made = {name: bytearray(SOUND[f"{CONFIG}/{name}"]) for name in tree.HIVES}
            for data in made.values():
                data[12:20] = written.to_bytes(8, "little")
                numbers(data, 1, 1)
            put_there(pc, {f"{CONFIG}/{place}/{name}": bytes(made[name]) for name in made})
        said = self.run_here("mend", pc.path, "hive-set", "--mount", "--yes", expect=4)
        self.assertIn("No record tells when failing began", " ".join(said.split()))
        self.run_here("open", case, "--disk", pc.path, "--quiet")
        log = self.folder / "messages.log"
        log.write_text(crashing_log())
        self.run_here("add", case, log)
        began = self.json_here("crashes", case)["onset"]["from"]
        said = " ".join(
            self.run_here("mend", case, "hive-set", "--mount", "--yes", expect=4).split()
        )
        self.assertIn(f"Failing began on {began[:10]}", said)
        self.assertIn("the newest from before is /ferry/system32/config/keepsake", said)

    def test_what_would_be_lost_is_told_and_a_partial_or_damaged_set_is_not_used(self):
        pc = NtPc(self.folder, "uefi")
        older = {name: tree.hive({name: {}}) for name in tree.HIVES[2:]}
        older |= {
            "SYSTEM": tree.hive(tree.system_keys(LETTERS["uefi"], {"ticketd": None})),
            "SOFTWARE": tree.hive(tree.software_keys()),
        }
        place = "/ferry/system32/config/keepsake"
        put_there(pc, {f"{CONFIG}/keepsake/{name}": data for name, data in older.items()})
        told = self.run_here("mend", pc.path, "hive-set", "--mount", "--yes", expect=4)
        self.assertIn("service ticketd would be gone", " ".join(told.split()))
        for name, data, why in (
            ("SAM", b"", "missing or empty"),
            ("SECURITY", older["SECURITY"][:3000], "damaged"),
            ("SYSTEM", b"regf" + bytes(9000), "damaged"),
        ):
            put_there(pc, {f"{CONFIG}/keepsake/{name}": data})
            said = self.run_here(
                "mend", pc.path, "hive-set", "--mount", "--yes", "--hives", place, expect=4
            )
            self.assertIn(why, " ".join(said.split()))
            put_there(pc, {f"{CONFIG}/keepsake/{name}": older[name]})


@needs(*PROGRAMS)
class Guards(Mended):
    """What each repair never does."""

    def refused(self, pc, *words):
        before = sha(pc.path)
        said = self.run_here("mend", pc.path, *words, "--yes", expect=4)
        self.assertEqual(sha(pc.path), before)
        return " ".join(said.split())

    def test_the_head_of_a_hive_with_broken_bins_is_not_rebuilt(self):
        pc = NtPc(self.folder, "uefi")
        data = bytearray(nt_faults.SOUND_TREE[SYSTEM])
        data[:4096] = bytes(4096)
        data[4096 + 32 : 4096 + 36] = (7).to_bytes(4, "little")
        pc.write({SYSTEM: bytes(data)})
        self.assertIn("bins are broken", self.refused(pc, "hive-header"))

    def test_what_the_start_depends_on_is_not_turned_off(self):
        pc = NtPc(self.folder, "uefi")
        device = {"Disk": {"0": {"ClassGUID": tree.DISKS, "Service": "harbourpart"}}}

        def device_of_disks(keys):
            keys["ControlSet001"] = dict(keys["ControlSet001"], Enum={"PCI": device})
            keys["ControlSet001"]["Services"]["harbourpart"] = tree.service(0, 1, 1, Group="Extra")

        nt_faults.settings(device_of_disks)(pc)
        for name, why in (
            ("quaydisk", "its group is SCSI miniport"),
            ("quaybus", "its group"),
            ("tidefs", "it reads the system's volume"),
            ("harbourpart", "between kernel and disk"),
            ("nosuch", "no driver, service or filter"),
        ):
            self.assertIn(why, self.refused(pc, "driver-off", "--driver", name))

    def test_a_sound_control_set_is_kept_and_none_is_guessed(self):
        pc = NtPc(self.folder, "uefi")
        self.assertIn("has its services", self.refused(pc, "control-set"))

        def three(keys):
            keys["Select"] = {"Current": 7, "Default": 7, "Failed": 0, "LastKnownGood": 9}

        nt_faults.settings(three)(pc)
        self.assertIn("nothing tells which", self.refused(pc, "control-set"))

    def test_files_of_another_build_or_machine_are_not_taken(self):
        pc, place = NtPc(self.folder, "uefi"), self.folder / "copies"
        place.mkdir()
        driver = f"{BASE}/drivers/deskprint.sys"
        older = tree.programs(tree.OLDER)[driver]
        (place / "deskprint.sys").write_bytes(older)
        nt_faults.write(nt_faults.turned(nt_faults.DISK_DRIVER))(pc)
        told = self.json_here("mend", pc.path, "file-restore", "--dry-run")
        self.assertIn(f"desk_{'.'.join(map(str, tree.VERSION))}", told["says"])
        put = {
            path: nt_faults.ARM for path in nt_faults.SOUND_TREE if path.endswith("/quaydisk.sys")
        }
        pc.write(put)
        (place / "quaydisk.sys").write_bytes(tree.programs(tree.OLDER)[nt_faults.DISK_DRIVER])
        self.assertIn("No copy of", self.refused(pc, "file-restore", "--from", place))

    def test_a_store_that_can_be_read_is_added_to(self):
        pc = NtPc(self.folder, "uefi")
        pc.store(nt_faults.without_default("uefi"))
        before = store_of(pc)
        self.mend(pc, "boot-entries")
        gone = {each for each in before - store_of(pc) if len(eval(each)) > 2}
        names = {eval(each)[0].rpartition("\\")[2] for each in gone}
        self.assertLessEqual(names, {"23000003", "24000001"})
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")
        self.assertIn("not replaced", self.refused(pc, "boot-entries"))

    def test_no_device_is_guessed(self):
        pc = NtPc(self.folder, "bios")
        keys = tree.store_keys(StoreDevice("partition", "0badd15c", offset=SYSTEM_AT), "x.exe")
        pc.store(hive_bytes(keys, tree.WRITTEN))
        self.assertIn("could be the one", self.refused(pc, "store-device"))

    def test_both_copies_of_a_record_damaged(self):
        pc = NtPc(self.folder, "uefi")
        with pc.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            head = disk.read(512)
        cluster = head[13] * 512
        places = [int.from_bytes(head[at : at + 8], "little") * cluster for at in (48, 56)]
        whole = pc.path.read_bytes()[SYSTEM_AT + places[0] :][:4096]
        pc.put(SYSTEM_AT + places[0] + 3072, bytes(1024))
        broken = sha(pc.path)
        self.assertIn("file-table-damaged", ids(trace_file(pc.path)))
        told = self.mend(pc, "ntfs-mirror")
        self.assertEqual([write["length"] for write in told["writes"]], [1024])
        now = pc.path.read_bytes()[SYSTEM_AT + places[0] :][:4096]
        self.assertEqual(now[3072 : 3072 + 48], whole[3072 : 3072 + 48])
        self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), broken)
        pc.put(SYSTEM_AT + places[1] + 3072, bytes(1024))
        self.assertIn("Both copies of record 3", self.refused(pc, "ntfs-mirror"))

    def test_without_a_driver_nothing_that_must_grow_is_written(self):
        pc = NtPc(self.folder, "uefi")
        nt_faults.write({"ferry/winsxs/pending.xml": b"<pending/>"})(pc)
        self.assertIn("--mount", self.refused(pc, "pending-drop"))

    def test_two_systems_need_a_word(self):
        pc = NtPc(self.folder, "uefi")
        with pc.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            volume = disk.read(SYSTEM_BYTES)
        pc.put(SYSTEM_AT + SYSTEM_BYTES, b"")
        del volume
        self.assertIn("No system", self.refused(pc, "control-set", "--system", "9"))


@needs(*PROGRAMS, ORACLE)
class OwnStore(Mended):
    def test_a_store_made_anew_equals_one_that_hivex_made_by_hand(self):
        pc = NtPc(self.folder, "uefi")
        pc.store(None)
        told = self.mend(pc, "boot-entries")
        self.assertIn("without a way to recovery", told["says"])
        made = store_of(pc)
        script = self.folder / "by_hand.py"
        script.write_text(BY_HAND)
        entry = next(
            eval(each)[0].split("\\")[2]
            for each in made
            if eval(each)[0].endswith("\\Elements\\22000002")
        )
        device = boot_store.encode_device(HERE["uefi"]).hex()
        desk = boot_store.encode_device(
            StoreDevice("partition", str(DISK_GUID), str(uuid.uuid5(DISK_GUID, "EFI")))
        ).hex()
        place = self.folder / "by_hand"
        minimal = self.folder / "minimal"
        minimal.write_bytes(new_hive(0, "NewStoreRoot"))
        words = ["/usr/bin/python3", script, minimal, place, entry, device, desk, LOADERS["uefi"]]
        os.spawnv(os.P_WAIT, words[0], [str(word) for word in words])
        self.assertEqual(made, set(oracle(place.read_bytes())))


BY_HAND = """
import hivex, sys
minimal, place, entry, device, desk, loader = sys.argv[1:]
hive = hivex.Hivex(minimal, write=True)
def wide(text):
    return (text + "\\0").encode("utf-16-le")
def many(*texts):
    return wide("\\0".join(texts) + "\\0")
def key(path):
    node = hive.root()
    for name in path.split("/"):
        found = hive.node_get_child(node, name)
        node = found if found else hive.node_add_child(node, name)
    return node
def put(path, name, kind, data):
    hive.node_set_value(key(path), {"key": name, "t": kind, "value": data})
put("Description", "KeyName", 1, wide("BCD00000000"))
put("Description", "System", 4, b"\\1\\0\\0\\0")
put("Description", "TreatAsSystem", 4, b"\\1\\0\\0\\0")
manager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
usual = "{7ea2e1ac-2e61-4728-aaa3-896d9d0a9f0e}"
loaders = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
for name, kind, elements in (
    (manager, 0x10100002, {
        "11000001": (3, bytes.fromhex(desk)), "12000004": (1, wide("Boot manager")),
        "14000006": (7, many(usual)), "23000003": (1, wide(entry)),
        "24000001": (7, many(entry)), "25000004": (3, (30).to_bytes(8, "little"))}),
    (usual, 0x20100000, {}),
    (loaders, 0x20200003, {"14000006": (7, many(usual))}),
    (entry, 0x10200003, {
        "11000001": (3, bytes.fromhex(device)),
        "12000002": (1, wide("\\\\ferry\\\\system32\\\\" + loader)),
        "12000004": (1, wide("System on volume 2")), "14000006": (7, many(loaders)),
        "21000001": (3, bytes.fromhex(device)), "22000002": (1, wide("\\\\ferry"))}),
):
    put("Objects/%s/Description" % name, "Type", 4, kind.to_bytes(4, "little"))
    key("Objects/%s/Elements" % name)
    for element, (sort, data) in elements.items():
        put("Objects/%s/Elements/%s" % (name, element), "Element", sort, data)
hive.commit(place)
"""


def mirror_of(pc):
    """Where the mirror of the first records is."""
    with pc.path.open("rb") as disk:
        disk.seek(SYSTEM_AT)
        head = disk.read(512)
    return SYSTEM_AT + int.from_bytes(head[56:64], "little") * head[13] * SECTOR


@needs(*PROGRAMS, ORACLE)
class RecoveryKept(Mended):
    """A boot configuration whose list of objects is lost, made anew with the way to recovery that
    is left in it. The device of a recovery's image is a stand-in: its layout is published nowhere.
    """

    ENTRY, OPTIONS = (f"{{5ea0{each}-7a1d-4000-8000-00000000f0e1}}" for each in ("aaaa", "bbbb"))
    IMAGE = "TIDE/BACK.WIM"

    def image_device(self, firmware, options=OPTIONS):
        """Options, a head of another kind, the volume that holds the image, the image's path."""
        place = {
            "bios": StoreDevice("partition", HERE["bios"].disk, offset=DESK[0] * SECTOR),
            "uefi": StoreDevice("partition", str(DISK_GUID), str(uuid.uuid5(DISK_GUID, "EFI"))),
        }[firmware]
        path = "\\" + self.IMAGE.replace("/", "\\") + "\0"
        head = uuid.UUID(options).bytes_le + bytes(4) + b"\1\0\0\0" + bytes(8) + b"\3" + bytes(27)
        return head + boot_store.encode_device(place)[32:] + path.encode("utf-16-le")

    def objects(self, firmware):
        more = {
            boot_store.RECOVERY_SEQUENCE: [self.ENTRY],
            boot_store.RECOVERY_ENABLED: b"\1",
        }
        keys = tree.store_keys(HERE[firmware], LOADERS[firmware], None, more)
        device = self.image_device(firmware)
        entry = {
            boot_store.DEVICE: device,
            boot_store.PATH: "\\ferry\\system32\\winload.exe",
            boot_store.DESCRIPTION: "The way back",
            boot_store.INHERITS: [tree.SETTINGS],
            boot_store.SYSTEM_DEVICE: device,
            0x4600_0010: b"\1",
        }
        keys["Objects"][self.ENTRY] = tree._object(boot_store.SYSTEM_LOADER, entry)
        options = {0x3500_0001: bytes(8), 0x3200_0004: "\\TIDE\\BACK.SDI"}
        keys["Objects"][self.OPTIONS] = tree._object(0x3000_0000, options)
        return keys

    def damaged(self, firmware, *lost, image=b"an image"):
        """The PC, its store with the key of all objects (and others) made unreadable."""
        pc = NtPc(self.folder, firmware)
        data = bytearray(hive_bytes(self.objects(firmware), tree.WRITTEN))
        for name in ("Objects", *lost):
            at = data.find(name.encode()) - 76  # the mark of a key before its name
            self.assertEqual(data[at : at + 2], b"nk", name)
            data[at : at + 2] = b"??"
        pc.store(bytes(data))
        if image is not None:
            try:
                tool("mmd", "-i", pc._esp, "::TIDE")
            finally:
                pc.desk(self.IMAGE, image)
        return pc, bytes(data)

    def left_of(self, rows):
        """Of what a hive holds, the rows of the way to recovery."""
        return {row for row in rows if self.ENTRY in row or self.OPTIONS in row}

    def test_it_is_taken_over_to_the_last_bit(self):
        for firmware in ("bios", "uefi"):
            pc, _ = self.damaged(firmware)
            before = sha(pc.path)
            told = self.mend(pc, "boot-entries")
            self.assertIn("its way to recovery (volume 2) as", told["says"])
            now = store_of(pc)
            was = set(oracle(hive_bytes(self.objects(firmware), tree.WRITTEN)))
            self.assertTrue(self.left_of(was) <= now, self.left_of(was) - now)
            named = {
                eval(each)[0] for each in now if f"\\\\{boot_store.RECOVERY_SEQUENCE:08x}" in each
            }
            self.assertEqual(len(named), 1)
            found = trace_file(pc.path)
            self.assertEqual((found.verdict, ids(found)), ("no-fault-found", []))
            self.run_here("undo", pc.path)
            self.assertEqual(sha(pc.path), before)

    def test_it_is_left_out_where_a_part_or_the_image_is_lost(self):
        for lost, image, why in (
            ((self.OPTIONS,), b"x", "is lost"),
            (("35000001",), b"x", "is lost"),
            ((), None, "its image is not on this disk"),
            ((), b"", "its image is not on this disk"),
        ):
            pc, _ = self.damaged("uefi", *lost, image=image)
            told = self.mend(pc, "boot-entries")
            self.assertIn("is not taken over", told["says"])
            self.assertIn(why, told["says"])
            self.assertEqual(self.left_of(store_of(pc)), set())
            self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")

    def test_a_store_made_to_be_read_without_end_is_left_behind(self):
        """Every object has sixty thousand keys, all of them the object itself, 2,000 times over."""
        pc, data = self.damaged("uefi")
        base, count = 4096, 60_000
        at = data.find(self.ENTRY.encode()) - 80  # the cell of an object
        listing = len(data) - base
        rows = struct.pack("<I4s", at - base, b"5ea0") * count
        body = b"lf" + struct.pack("<H", count) + rows
        cell = struct.pack("<i", -(4 + len(body) + 7 & ~7)) + body
        hostile = bytearray(data + cell.ljust(-struct.unpack_from("<i", cell)[0], b"\0"))
        struct.pack_into("<I", hostile, at + 4 + 20, count)
        struct.pack_into("<I", hostile, at + 4 + 28, listing)
        length = -struct.unpack_from("<i", hostile, at)[0]
        pc.store(bytes(hostile) + bytes(hostile[at : at + length]) * 2000)
        told = self.mend(pc, "boot-entries")
        self.assertIn("a part of it", told["says"])
        self.assertEqual(trace_file(pc.path).verdict, "no-fault-found")

    def test_it_is_found_beside_the_store_too(self):
        pc, data = self.damaged("bios")
        sound = hive_bytes(self.objects("bios"), tree.WRITTEN)
        pc.desk(f"{STORES['bios']}.OLD", sound)
        pc.store(data[:100])
        told = self.mend(pc, "boot-entries")
        self.assertIn("BCD.OLD names it", told["says"])
        self.assertTrue(self.left_of(store_of(pc)))


@needs(*PROGRAMS)
@needs_samples("dissect.fve")
@needs_mounts
class InsideLocks(Mended):
    """Repairs inside unlocked volumes: another program that opens them sees the change and nothing
    else; undo needs no key.
    """

    def plain(self, pc):
        """The volume as an independent reader unlocks it."""
        place = self.folder / "locked"
        with pc.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            place.write_bytes(disk.read(SYSTEM_BYTES))
        volume = pybde.volume()
        volume.set_password(PASSWORD.decode())
        volume.open(str(place))
        parts = []
        while sum(map(len, parts)) < SYSTEM_BYTES:
            parts.append(volume.read_buffer(1 << 20))
        volume.close()
        return b"".join(parts)

    def test_repairs_of_two_ciphers(self):
        secret = self.folder / "secret"
        secret.write_bytes(PASSWORD)
        repairs = (
            ("drive-letter",),
            *((("file-restore",),) if EVERY else ()),
            ("pending-drop", "--mount"),
            ("hive-set", "--mount", "--hives", f"/{CONFIG}/keepsake"),
        )
        others = (("ntfs-mirror",),)
        for name, wanted in (("aes-xts_128", repairs), ("aes_128", others)):
            pc = NtPc(self.folder, "bios")
            nt_faults.settings(nt_faults.letter_moved)(pc)
            nt_faults.write(nt_faults.turned(nt_faults.DISK_DRIVER))(pc)
            nt_faults.software(user_init="greeter.exe,")(pc)
            nt_faults.wrong_sum(f"{CONFIG}/SAM")(pc)
            waiting = {"ferry/winsxs/pending.xml": b"<pending/>"}
            older = {f"{CONFIG}/keepsake/{each}": SOUND[f"{CONFIG}/{each}"] for each in tree.HIVES}
            put_there(pc, waiting | older)
            if wanted is others:  # the driver would not mount that
                pc.put(mirror_of(pc) + 3072, bytes(1024))
            lock(pc, name)
            locked, before = sha(pc.path), self.plain(pc)
            self.run_here("mend", pc.path, *repairs[0], "--yes", expect=4)  # not without the key
            for words in wanted:
                with self.subTest(name, repair=words[0]):
                    told = self.json_here("mend", pc.path, *words, "--key-file", secret, "--yes")
                    self.check_only_announced(told, before, self.plain(pc))
                    self.run_here("undo", pc.path)
                    self.assertEqual(sha(pc.path), locked)

    def check_only_announced(self, told, before, after):
        sectors = range(0, SYSTEM_BYTES, SECTOR)
        unlike = {at for at in sectors if before[at : at + SECTOR] != after[at : at + SECTOR]}
        written = {
            at
            for write in told["writes"]
            for at in range(write["offset"], write["offset"] + write["length"], SECTOR)
        }
        self.assertTrue(unlike)
        self.assertLessEqual({SYSTEM_AT + at for at in unlike}, written)

    def test_a_log_inside_and_the_boot_configuration_outside(self):
        pc = NtPc(self.folder, "bios")
        later = put_log(pc)
        pc.put(440, b"\x77\x66\x55\x44")  # the disk was cloned: its store names another one
        lock(pc, "aes-xts_128")
        secret = self.folder / "secret"
        secret.write_bytes(PASSWORD)
        words = ("--key-file", secret, "--key-at-hand", "--yes")
        locked, before = sha(pc.path), self.plain(pc)
        told = self.json_here("mend", pc.path, "hive-log", *words)
        after = self.plain(pc)
        self.check_only_announced(told, before, after)
        reader = IndependentReader(MemorySource(after), 0, "NTFS")
        read = reader.read(f"/{SYSTEM}", len(later))
        self.assertEqual(set(oracle(read)), set(oracle(bytes(later))))
        self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), locked)
        told = self.json_here("mend", pc.path, "store-device", *words)
        self.assertEqual(self.plain(pc), before)  # the store lies outside
        self.assertTrue(told["done"])
        self.run_here("undo", pc.path)
        self.assertEqual(sha(pc.path), locked)

    def test_the_chain_that_the_lock_trusts_asks_for_the_key_at_hand(self):
        pc = NtPc(self.folder, "uefi")
        pc.store(None)
        lock(pc, "aes-xts_128")
        secret = self.folder / "secret"
        secret.write_bytes(PASSWORD)
        words = ("mend", pc.path, "--all", "--yes", "--key-file", secret)
        said = " ".join(self.run_here(*words, expect=4).split())
        self.assertIn("ask for its recovery key", said)
        self.run_here(*words, "--key-at-hand")
        told = self.json_here("trace", pc.path, "--key-file", secret)
        self.assertEqual(told["verdict"], "no-fault-found")


if __name__ == "__main__":
    unittest.main()
