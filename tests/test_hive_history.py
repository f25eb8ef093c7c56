"""The past of a system of the nt family from its hives and set-up logs: real hives as an
independent reader has them, and whole disks with a planted driver.
"""

import struct
import unittest
from dataclasses import replace
from datetime import UTC, datetime
from random import Random

from Registry import Registry

from mending.crash.read import Reader
from mending.knowledge import base_codes, base_events
from mending.source import MemorySource
from mending.workshop.histories import DumpDraft, as_xml, history
from mending.workshop.nt import hive_bytes, software_keys, system_keys
from tests.nt_pc import BASE, PROGRAMS, SOFTWARE, SYSTEM, NtPc, put_by_driver
from tests.samples import needs_samples, read_samples
from tests.support import InFolder, needs, needs_mounts

READER = Reader(base_codes(), base_events())
EPOCH, TICKS = 11_644_473_600, 10_000_000
TIMES = "{83da6326-97a6-4088-9453-a1923f573b29}"
LOG, SETUP = f"{BASE}/winevt/logs/System.evtx", "ferry/inf/setup.dev.log"
DUMP, CORE = "ferry/minidump/1.dmp", 0xFFFFF80000000000
DISKS = 20


def ticks(at):
    return struct.pack("<Q", int((at + EPOCH) * TICKS))


def told(data):
    (found,) = READER.read("hive", MemorySource(data), 0.0)
    return found


@needs_samples("dissect.regf", "winevtrc", "dfwinreg-source")
class RealHives(InFolder):
    def registry(self, data):
        held = self.folder / "hive"
        held.write_bytes(data)
        return Registry.Registry(str(held))

    def test_devices_and_the_last_shutdown(self):
        data = next(data for _, data in read_samples("dissect.regf", "_data/SYSTEM.gz"))
        root = self.registry(data)
        chosen = root.open(f"ControlSet{root.open('Select').value('Current').value():03}")
        times = []
        for bus in chosen.subkey("Enum").subkeys():
            for device in bus.subkeys():
                for instance in device.subkeys():
                    times += list(self.installed(instance))
        found = [event.at for event in told(data).events if event.kind.value == "installed"]
        self.assertEqual(len(found), len(times))
        for mine, theirs in zip(sorted(found), sorted(times), strict=True):
            self.assertAlmostEqual(mine, theirs, 3)
        (shutdown,) = (
            value.raw_data()
            for key in chosen.subkey("Control").subkeys()
            for value in key.values()
            if value.name() == "ShutdownTime"
        )
        mine = next(event.at for event in told(data).events if event.kind.value == "clean-stop")
        self.assertAlmostEqual(mine, struct.unpack("<Q", shutdown)[0] / TICKS - EPOCH, 3)

    def installed(self, instance):
        """When a device and its driver came, each time once."""
        try:
            kept = instance.subkey("Properties").subkey(TIMES)
        except Registry.RegistryKeyNotFoundException:
            return
        seen = set()
        for key in kept.subkeys():
            if key.name() in {"0064", "0065"}:
                (value,) = key.values()
                seen.add(struct.unpack("<Q", value.raw_data())[0])
        yield from (each / TICKS - EPOCH for each in seen)

    def test_updates_and_programs(self):
        data = next(data for _, data in read_samples("winevtrc", "SOFTWARE"))
        days = {}
        for maker in self.registry(data).root().subkeys():
            for system in maker.subkeys():
                days |= self.programs(system)
        self.assertGreater(len(days), 50)
        found = {
            event.name: f"{datetime.fromtimestamp(event.at, UTC):%Y%m%d}"
            for event in told(data).events
            if event.what == "program"
        }
        self.assertEqual(found, days)

    def programs(self, system):
        try:
            listed = system.subkey("CurrentVersion").subkey("Uninstall")
        except Registry.RegistryKeyNotFoundException:
            return {}
        rows = [{each.name(): each.value() for each in key.values()} for key in listed.subkeys()]
        return {
            row["DisplayName"]: row["InstallDate"]
            for row in rows
            if row.get("DisplayName") and len(row.get("InstallDate", "")) == 8
        }

    def test_damaged_hives_and_logs(self):
        data = next(data for _, data in read_samples("winevtrc", "SYSTEM"))
        random = Random(4)
        for _ in range(150):
            hurt = bytearray(data[: random.choice((4096, 40_000, 400_000))])
            for _ in range(random.choice((0, 8, 60))):
                hurt[random.randrange(4096 - 4, len(hurt))] = random.randrange(256)
            told(bytes(hurt))


def written(story):
    """The records of a story: what was installed stands in hives and the set-up log alone."""
    random = Random(story.guilty)
    came = [entry for entry in story.entries if entry.what == "installed"]
    rest = [entry for entry in story.entries if entry.what != "installed"]
    devices, packages, programs, sections = {}, {}, {}, []
    for number, entry in enumerate(came):
        if entry.kind == "driver":
            times = {"0064": {"": ticks(entry.at)}, "0065": {"": ticks(entry.at)}}
            service = entry.name.partition(".")[0]
            devices[f"VID_1209&PID_{number:04X}"] = {
                "5&1": {
                    "Service": service,
                    "Properties": {TIMES: times},
                    "DeviceDesc": "@x;Desk part",
                }
            }
            if random.random() < 0.5:
                sections.append(section(entry))
        elif entry.kind == "update":
            high, low = divmod(int((entry.at + EPOCH) * TICKS), 1 << 32)
            keys = {"InstallTimeHigh": high, "InstallTimeLow": low, "CurrentState": 0x70}
            packages[f"{entry.name}~31bf~amd64~~1.{number}"] = keys
        else:
            day = f"{datetime.fromtimestamp(entry.at, UTC):%Y%m%d}"
            programs[f"{number}"] = {"DisplayName": entry.name, "InstallDate": day}
    system = system_keys(bytes(12))
    control = dict(system["ControlSet001"]) | {"Enum": {"USB": devices}}
    system = dict(system) | {"ControlSet001": control, "ControlSet002": control}
    software = software_keys()
    current = software["Skerrivane"]["Harbour"]["CurrentVersion"]
    current |= {"Component Based Servicing": {"Packages": packages}, "Uninstall": programs}
    return {
        SYSTEM: hive_bytes(system, 133_000_000_000_000_000),
        SOFTWARE: hive_bytes(software, 133_000_000_000_000_000),
        LOG: as_xml(replace(story, entries=tuple(rest))),
        SETUP: ("[Device Install Log]\r\n" + "".join(sections)).encode(),
    }


def dump(story):
    """The newest crash, which points into the guilty driver."""
    crash = [entry for entry in story.entries if entry.what == "crash" and entry.code][-1]
    drivers = [("kernel.exe", CORE, 1 << 23), ("layer.dll", CORE + (9 << 20), 1 << 19)]
    drivers.append((story.guilty, CORE + (3 << 24), 1 << 18))
    inside = CORE + (3 << 24) + 0x1234
    stack = (CORE + 0x1000, inside - 0x200)
    fault = (0xC0000005, inside)
    draft = DumpDraft(64, crash.code, (fault[0], inside, 0, 0), drivers, stack, fault, inside)
    return replace(draft, at=crash.at, uptime=600.0).encode()


def section(entry):
    time = datetime.fromtimestamp(entry.at, UTC)
    return (
        f">>>  [Device Install (Hardware initiated) - USB\\VID_1209&PID_0A11\\5&1]\r\n"
        f">>>  Section start {time:%Y/%m/%d %H:%M:%S.000}\r\n"
        f"     flq: Copying 'C:\\x\\{entry.name}' to 'C:\\ferry\\{entry.name}'.\r\n"
        f"<<<  Section end {time:%Y/%m/%d %H:%M:%S.900}\r\n<<<  [Exit status: SUCCESS]\r\n\r\n"
    )


@needs("ntfs-3g", *PROGRAMS)
class Disks(InFolder):
    @needs_mounts
    def test_the_planted_driver_is_named(self):
        pc = NtPc(self.folder, "uefi")
        put_by_driver(pc, {LOG: b"-", SETUP: b"-", DUMP: b"-"})
        first = 0
        for seed in range(DISKS):
            story = history("driver", seed)
            pc.write(written(story) | {DUMP: dump(story)})
            found = self.json_here("crashes", pc.path)
            service = story.guilty.partition(".")[0]
            first += service in found["suspects"][0]["change"]
        self.assertEqual(first, DISKS)
        self.assertEqual(
            {row.rpartition("/")[2].lower() for row in found["files"]},
            {"system", "software", "system.evtx", "setup.dev.log", "1.dmp"},
        )

    def test_a_section_that_failed_or_took_something_out(self):
        story = history("driver", 1)
        entry = next(entry for entry in story.entries if entry.what == "installed")
        text = section(entry)
        for old, new, kind in (
            ("SUCCESS", "SUCCESS", "installed"),
            ("SUCCESS", "FAILURE(0x00000490)", "failed"),
            ("Device Install (Hardware initiated)", "Uninstall Driver Package", "removed"),
        ):
            (found,) = READER.read("log", MemorySource(text.replace(old, new).encode()), 0.0)
            self.assertEqual([event.kind.value for event in found.events], [kind])
            self.assertAlmostEqual(found.events[0].at, entry.at, delta=1)
        torn = text[: text.index("<<<")]
        (found,) = READER.read("log", MemorySource(torn.encode()), 0.0)
        self.assertEqual(found.events, ())


if __name__ == "__main__":
    unittest.main()
