"""The system hive of the nt family on whole disks: real hives on a volume of a real driver."""

import subprocess
import tempfile
import unittest
from pathlib import Path

from mending.boot.nt.start import NtSettings, NtStart, boot_drivers, drivers_of
from mending.boot.nt.system_hive import SET
from mending.case.reasoning import facts_of
from mending.case.state import CaseState
from mending.disk.hives import Hive
from mending.formats import hives
from mending.knowledge import base_pack
from mending.reason import Evidence, believe
from mending.workshop.nt import program_bytes
from tests.nt_faults import turned
from tests.nt_pc import BASE, PROGRAMS, SYSTEM, NtPc
from tests.samples import needs_samples, read_samples
from tests.support import InFolder, ids, needs, trace_file
from tests.test_hives import ORACLE, cut_off, entry_log, samples, small

COPIES = f"{BASE}/config/keepsake"
LISTED = """
import hivex, struct, sys
hive = hivex.Hivex(sys.argv[1])
top = hive.node_get_child(hive.root(), sys.argv[2])
control = hive.node_get_child(top, "Control")
def value(node, name):
    found = {hive.value_key(each).lower(): each for each in hive.node_values(node)}
    return found.get(name.lower())
order = hive.node_get_child(control, "ServiceGroupOrder")
names = hive.value_multiple_strings(value(order, "List"))
groups = [each.lower() for each in names if each]
tags = hive.node_get_child(control, "GroupOrderList")
rows = []
for at, node in enumerate(hive.node_children(hive.node_get_child(top, "Services"))):
    start, kind = value(node, "Start"), value(node, "Type")
    if not start or hive.value_dword(start) or hive.value_dword(kind) not in (1, 2, 8):
        continue
    group = hive.value_string(value(node, "Group")) if value(node, "Group") else ""
    tag = hive.value_dword(value(node, "Tag")) if value(node, "Tag") else 0
    listed = hive.value_value(value(tags, group))[1] if group and value(tags, group) else b""
    count = len(listed) // 4
    numbers = list(struct.unpack("<%dI" % count, listed[:4 * count]))
    numbers = numbers[1:1 + numbers[0]] if numbers else []
    rank = groups.index(group.lower()) if group.lower() in groups else len(groups)
    inside = numbers.index(tag) if tag in numbers else len(set(numbers))
    rows.append((rank, inside, at, hive.node_name(node)))
for row in sorted(rows):
    print(row[-1])
"""


def real_hive():
    return dict(read_samples("dfwinreg", "SYSTEM"))["SYSTEM"]


def summed(data):
    data[508:512] = hives.checksum(bytes(data[:512])).to_bytes(4, "little")
    return bytes(data)


def started_drivers(hive):
    """Names of files of all drivers that the control set starts with or by the kernel."""
    found = []
    for key in Hive(hive).find("ControlSet001\\Services").children():
        if key.number("Start") in {0, 1} and key.number("Type") in {1, 2, 8}:
            path = key.text("ImagePath") or f"drivers\\{key.name}.sys"
            found.append(path.rpartition("\\")[2])
    return found


@needs_samples("dfwinreg")
@needs(*PROGRAMS)
class SystemHive(InFolder):
    """On a BIOS PC, with an image for every driver that a real hive names."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = {}

    def pc(self, hive, log=b"", copies=None):
        """A PC with this hive. Args: copies: content by name in the folder of copies."""
        pc = NtPc(self.folder, "bios")
        drivers = {f"{BASE}/drivers/{name}": program_bytes() for name in self.drivers()}
        content = {SYSTEM: hive, f"{SYSTEM}.LOG1": log} if log else {SYSTEM: hive}
        copied = {f"{COPIES}/{name}": data for name, data in (copies or {}).items()}
        pc.write({**drivers, **content, **copied})
        return pc

    def drivers(self):
        if "drivers" not in self.made:
            self.made["drivers"] = started_drivers(real_hive())
        return self.made["drivers"]

    def traced(self, hive, log=b"", copies=None):
        return trace_file(self.pc(hive, log, copies).path)

    def test_a_sound_hive_is_read_and_its_drivers_found(self):
        trace = self.traced(real_hive())
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "no-fault-found"))
        said = [check.says for check in trace.checks if check.phase == "loader"]
        self.assertIn("ControlSet001", said[2])
        self.assertIn("16 of 16 drivers", said[3])
        self.assertEqual([system.title for system in trace.systems], ["/ferry"])
        facts = facts_of(CaseState(trace=trace), base_pack())
        self.assertEqual(facts["family"], "nt")
        self.assertNotIn("release-known", facts)  # a folder's name is no release

    def test_what_ends_the_start_is_fatal_in_the_loaders_phase_and_proves_its_cause(self):
        hive = real_hive()
        blank = bytes(4096) + hive[4096:]
        wrong_sum = bytearray(hive)
        wrong_sum[60] ^= 1
        no_root = bytearray(hive)
        root = 4096 + int.from_bytes(hive[36:40], "little")
        no_root[root + 4 : root + 6] = b"xx"
        cut = bytearray(hive)
        cut[40:44] = (len(hive) + 4096).to_bytes(4, "little")
        for says, data in (
            ("blank", blank),
            ("checksum", bytes(wrong_sum)),
            ("root", bytes(no_root)),
            ("cut", summed(cut)),
        ):
            with self.subTest(says):
                trace = self.traced(data)
                self.assertEqual(ids(trace, "fatal"), ["hive-damaged"])
                self.assertEqual(trace.failing_phase, "loader")
                first = believe(base_pack(), Evidence(trace=trace)).causes[0]
                self.assertEqual((first.id, first.proven), ("settings-hive-damaged", True))

    def test_a_control_set_that_is_selected_and_not_there(self):
        hive = bytearray(real_hive())
        name = hive.index(b"ControlSet001")
        hive[name : name + 13] = b"ControlSet009"
        trace = self.traced(bytes(hive))
        self.assertEqual(ids(trace, "fatal"), ["control-set-missing"])
        self.assertIn("selects control set 1", trace.fatal[0].says)
        self.assertIn("ControlSet009", trace.fatal[0].says)

    def test_damage_inside_and_a_write_that_was_cut_off_are_doubts(self):
        hive = bytearray(real_hive())
        places = [at for at in range(4096, len(hive), 4096) if hive[at : at + 4] == b"hbin"]
        hive[places[-1]] ^= 0xFF
        trace = self.traced(bytes(hive))
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "unsure"))
        told = next(found for found in trace.findings if found.id == "hive-damaged-inside")
        self.assertEqual(told.where.offset, places[-1])
        unfinished = bytearray(real_hive())
        unfinished[4] += 1
        trace = self.traced(summed(unfinished))
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "unsure"))
        self.assertIn("hive-unfinished", ids(trace, "warning"))

    def test_a_set_of_copies_beside_it_is_judged_as_a_whole(self):
        blank = bytes(4096) + real_hive()[4096:]
        whole = dict.fromkeys(SET, small())
        trace = self.traced(blank, copies=whole)
        self.assertIn("hive-copies-whole", ids(trace, "note"))
        said = next(found.says for found in trace.findings if found.id == "hive-copies-whole")
        self.assertRegex(said, r"keepsake, written 20\d\d-")
        self.assertEqual(facts_of(CaseState(trace=trace), base_pack())["hive-copies"], "yes")
        torn = bytearray(small())
        torn[4] += 1
        for copies in (whole | {"SAM": summed(torn)}, {}):
            trace = self.traced(blank, copies=copies)
            self.assertIn("hive-copies-unfit", ids(trace, "note"))
            self.assertEqual(facts_of(CaseState(trace=trace), base_pack())["hive-copies"], "no")
        sound = self.traced(real_hive(), copies=whole)
        self.assertNotIn("hive-copies-whole", ids(sound))

    def test_a_log_beside_it_finishes_the_write(self):
        hive = real_hive()
        base = hives.read(hives.Window(hive[:4096])).record
        broken, log = entry_log(hive, base)
        self.assertEqual(broken, cut_off(hive, base))
        self.assertEqual(ids(self.traced(broken), "fatal"), ["hive-damaged"])
        trace = self.traced(broken, log)
        self.assertEqual((ids(trace, "fatal"), trace.verdict), ([], "no-fault-found"))
        said = [check.says for check in trace.checks if check.phase == "loader"]
        self.assertIn("1 writes of its logs included", said[2])

    def test_a_driver_of_a_real_hive_ends_the_start_only_where_its_settings_say_so(self):
        for name, fatal in (("pci.sys", ["boot-driver-damaged"]), ("atapi.sys", [])):
            pc = self.pc(real_hive())
            image = turned(f"{BASE}/drivers/quaydisk.sys")[f"{BASE}/drivers/quaydisk.sys"]
            pc.write({f"{BASE}/drivers/{name}": image})
            trace = trace_file(pc.path)
            self.assertEqual(ids(trace, "fatal"), fatal)
            self.assertIn("boot-driver-damaged", ids(trace))


class Drivers(unittest.TestCase):
    """The list of drivers, against one that an independent reader makes."""

    @needs_samples("dfwinreg", "dissect.regf")
    @needs(ORACLE)
    def test_the_same_drivers_in_the_same_order(self):
        checked = 0
        for name, data in samples():
            hive = Hive(data)
            if hive.root.child("Select") is None:
                continue
            number = hive.root.path("Select").number("Current")
            control_set = hive.root.child(f"ControlSet{number:03d}")
            settings = NtSettings(NtStart(None, None, "/ferry"), hive, control_set)
            mine = [each.name for each in boot_drivers(settings, drivers_of(settings))]
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "hive"
                path.write_bytes(data)
                words = ["/usr/bin/python3", "-c", LISTED, str(path), control_set.name]
                done = subprocess.run(words, check=True, capture_output=True, text=True)
                self.assertEqual(mine, done.stdout.splitlines())
                checked += len(mine)
        self.assertGreater(checked, 100)


if __name__ == "__main__":
    unittest.main()
