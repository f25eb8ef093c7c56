"""Forty faults of the chain of the nt family on whole disks, and disks that are sound, each in a
way of its own. For every fault the phase in which the start ends was written down first.
"""

from mending.formats.boot_store import StoreDevice
from mending.workshop import nt as tree
from mending.workshop.disks import DISK_GUID
from mending.workshop.nt import ARM64, PARTITION, SIGNATURE, hive_bytes, program_bytes
from tests.nt_pc import BASE, SOFTWARE, SYSTEM, SYSTEM_AT

HERE = {
    "bios": StoreDevice("partition", f"{SIGNATURE:08x}", offset=SYSTEM_AT),
    "uefi": StoreDevice("partition", str(DISK_GUID), str(PARTITION)),
}
LETTERS = {
    "bios": tree.letter_on_mbr(SIGNATURE, SYSTEM_AT),
    "uefi": tree.letter_on_gpt(PARTITION),
}
LOADERS = {"bios": "winload.exe", "uefi": "winload.efi"}
SOUND_TREE = tree.system_tree(LETTERS["bios"])
KERNEL, HAL = f"{BASE}/ntoskrnl.exe", f"{BASE}/hal.dll"
DISK_DRIVER = f"{BASE}/drivers/quaydisk.sys"
ARM = program_bytes(machine=ARM64)


def turned(path, at=1030):
    """A program in which one bit has turned."""
    data = bytearray(SOUND_TREE[path])
    data[at] ^= 0x10
    return {path: bytes(data)}


def cut(path, length=1500):
    return {path: SOUND_TREE[path][:length]}


def as_it_was(pc):
    """No change: a sound disk."""


def write(content):
    return lambda pc: pc.write(content() if callable(content) else content)


def lose(name):
    return lambda pc: pc.lose(name)


def desk(name, data):
    return lambda pc: pc.desk(name, data)


def store(made):
    return lambda pc: pc.store(made(pc.firmware))


def entry(firmware, device=None, loader=None, numbers=None):
    device = device or HERE[firmware]
    return tree.store_bytes(device, loader or LOADERS[firmware], numbers)


def without_default(firmware):
    """A store in which the manager names an entry that is not there."""
    data = entry(firmware)
    wanted = tree.ENTRY.encode("utf-16-le")
    other = tree.ENTRY.replace("f0e1", "f0e9").encode("utf-16-le")
    return data.replace(wanted, other)


def without_manager(_):
    return hive_bytes({"Objects": {tree.SETTINGS: {"Elements": {}}}}, tree.WRITTEN)


def settings(change=None, services=None):
    """The system hive with other services, or keys changed by a function."""

    def made(pc):
        keys = tree.system_keys(LETTERS[pc.firmware], services)
        if change is not None:
            change(keys)
        pc.write({SYSTEM: tree.hive(keys)})

    return made


def selects_another(keys):
    keys["Select"]["Current"] = 7


def filters(guid, *names):
    def change(keys):
        keys["ControlSet001"]["Control"]["Class"][guid]["UpperFilters"] = list(names)

    return change


def software(**how):
    return write({SOFTWARE: tree.hive(tree.software_keys(**how))})


def blank_start(path):
    return write({path: bytes(4096) + SOUND_TREE[path][4096:]})


def wrong_sum(path):
    data = bytearray(SOUND_TREE[path])
    data[60] ^= 1
    return write({path: bytes(data)})


def no_shell(pc):
    keys = tree.software_keys()
    keys["Skerrivane"]["Harbour"]["CurrentVersion"]["Winlogon"]["Shell"] = "kiosk.exe"
    pc.write({SOFTWARE: tree.hive(keys)})


FAULTS = (
    # firmware, what was done, the phase in which the start ends, the finding
    ("bios", "boot code blank", lambda pc: pc.put(0, bytes(440)), "boot-record", "boot-code-blank"),
    ("bios", "no active entry", lambda pc: pc.put(446, b"\0"), "boot-record", "no-active-entry"),
    (
        "uefi",
        "no loader on the ESP",
        lambda pc: [
            pc.desk(name, None) for name in ("EFI/BOOT/BOOTX64.EFI", "EFI/HARBOUR/BOOT/HARBOUR.EFI")
        ],
        "boot-record",
        "efi-loader-missing",
    ),
    (
        "uefi",
        "loader on the ESP cut",
        lambda pc: [
            pc.desk(name, pc.read_desk(name)[:900])
            for name in ("EFI/BOOT/BOOTX64.EFI", "EFI/HARBOUR/BOOT/HARBOUR.EFI")
        ],
        "boot-record",
        "efi-loader-damaged",
    ),
    ("bios", "manager missing", desk("BOOTMGR", None), "boot-manager", "first-file-missing"),
    ("bios", "manager empty", desk("BOOTMGR", b""), "boot-manager", "first-file-empty"),
    ("bios", "store missing", lambda pc: pc.store(None), "boot-manager", "boot-store-missing"),
    ("uefi", "store missing", lambda pc: pc.store(None), "boot-manager", "boot-store-missing"),
    (
        "bios",
        "store cut",
        store(lambda how: entry(how)[:5000]),
        "boot-manager",
        "boot-store-damaged",
    ),
    (
        "uefi",
        "store blank at its start",
        store(lambda how: bytes(4096) + entry(how)[4096:]),
        "boot-manager",
        "boot-store-damaged",
    ),
    ("uefi", "store empty", store(lambda _: b""), "boot-manager", "boot-store-damaged"),
    (
        "bios",
        "store of another disk",
        store(lambda how: entry(how, StoreDevice("partition", "0badd15c", offset=SYSTEM_AT))),
        "boot-manager",
        "boot-store-volume-gone",
    ),
    (
        "bios",
        "store with another offset",
        store(lambda how: entry(how, StoreDevice("partition", f"{SIGNATURE:08x}", offset=3 << 20))),
        "boot-manager",
        "boot-store-volume-gone",
    ),
    (
        "uefi",
        "store with another partition",
        store(lambda how: entry(how, StoreDevice("partition", str(DISK_GUID), str(DISK_GUID)))),
        "boot-manager",
        "boot-store-volume-gone",
    ),
    ("uefi", "default entry gone", store(without_default), "boot-manager", "boot-store-no-entry"),
    (
        "bios",
        "manager's object gone",
        store(without_manager),
        "boot-manager",
        "boot-store-no-entry",
    ),
    (
        "bios",
        "loader of another name",
        store(lambda how: entry(how, loader="winlaad.exe")),
        "loader",
        "system-loader-missing",
    ),
    ("bios", "loader cut", write(cut(f"{BASE}/winload.exe")), "loader", "system-loader-damaged"),
    (
        "uefi",
        "loader with one bit turned",
        write(turned(f"{BASE}/winload.efi")),
        "loader",
        "system-loader-damaged",
    ),
    ("uefi", "loader gone", lose("winload.efi"), "loader", "system-loader-missing"),
    ("bios", "kernel gone", lose("ntoskrnl.exe"), "loader", "kernel-missing"),
    ("uefi", "kernel with one bit turned", write(turned(KERNEL)), "loader", "kernel-damaged"),
    ("uefi", "hardware layer for another machine", write({HAL: ARM}), "loader", "kernel-damaged"),
    (
        "bios",
        "hardware layer of another version",
        write({HAL: program_bytes(("HalGetBusData",))}),
        "loader",
        "kernel-damaged",
    ),
    ("bios", "system hive blank at its start", blank_start(SYSTEM), "loader", "hive-damaged"),
    ("uefi", "system hive cut", write(cut(SYSTEM, 9000)), "loader", "hive-damaged"),
    ("uefi", "control set gone", settings(selects_another), "loader", "control-set-missing"),
    ("bios", "storage driver gone", lose("quaydisk.sys"), "loader", "boot-driver-missing"),
    ("uefi", "storage driver damaged", write(turned(DISK_DRIVER)), "loader", "boot-driver-damaged"),
    ("uefi", "storage driver empty", write({DISK_DRIVER: b""}), "loader", "boot-driver-damaged"),
    (
        "bios",
        "storage driver for another machine",
        write({DISK_DRIVER: ARM}),
        "loader",
        "boot-driver-damaged",
    ),
    (
        "bios",
        "driver that needs a library which is not there",
        write({DISK_DRIVER: program_bytes((), {"quaylib.sys": ["Open"]})}),
        "loader",
        "boot-driver-unlinked",
    ),
    (
        "uefi",
        "driver for a newer kernel",
        write({DISK_DRIVER: program_bytes((), {"ntoskrnl.exe": ["IoCreateBerth"]})}),
        "loader",
        "boot-driver-unlinked",
    ),
    (
        "bios",
        "filter of volumes left behind",
        settings(services={"quayvol": None}),
        "kernel",
        "class-filter-gone",
    ),
    (
        "uefi",
        "filter of disks left behind",
        settings(filters(tree.DISKS, "oldguard")),
        "kernel",
        "class-filter-gone",
    ),
    ("bios", "hive of programs blank", blank_start(SOFTWARE), "session", "hive-damaged"),
    (
        "uefi",
        "hive of accounts damaged",
        wrong_sum(f"{BASE}/config/SAM"),
        "session",
        "hive-damaged",
    ),
    ("uefi", "session manager gone", lose("smss.exe"), "session", "session-program-missing"),
    (
        "bios",
        "sign-in screen damaged",
        write(turned(f"{BASE}/winlogon.exe")),
        "session",
        "session-program-damaged",
    ),
    (
        "uefi",
        "library of another version",
        write({f"{BASE}/ntdll.dll": program_bytes(("NtClose",))}),
        "session",
        "session-program-damaged",
    ),
    (
        "bios",
        "sign-in names what was removed",
        software(user_init="C:\\ferry\\system32\\greeter.exe,"),
        "desktop",
        "sign-in-program-missing",
    ),
    (
        "uefi",
        "desktop damaged",
        write(turned("ferry/explorer.exe")),
        "desktop",
        "sign-in-program-damaged",
    ),
    ("uefi", "desktop replaced by what is gone", no_shell, "desktop", "sign-in-program-missing"),
)


def safe_mode(how):
    return entry(how, numbers={0x2500_0080: 0})


def gone_once(how):
    """A store with an entry for the next start only, which is not in it."""
    data = tree.store_keys(HERE[how], LOADERS[how])
    manager = data["Objects"][tree.boot_store.BOOT_MANAGER]["Elements"]
    gone = tree.ENTRY.replace("f0e1", "f0e7")
    manager[f"{tree.boot_store.ONCE:08x}"] = {"Element": [gone]}
    return hive_bytes(data, tree.WRITTEN)


def odd_start_up(keys):
    """Lines without a program among those that run before the session."""
    manager = keys["ControlSet001"]["Control"]["Session Manager"]
    manager["BootExecute"] = ["autocheck", " ", "autocheck autochk *"]


def other_drives(keys):
    keys["ControlSet001"]["Services"]["berthd"] = tree.service(2, 16, 1, ImagePath="E:\\berthd.exe")


def lost_recovery(how):
    """A store whose entry names a recovery that is not in it."""
    lost = {tree.boot_store.RECOVERY_SEQUENCE: [tree.ENTRY.replace("f0e1", "f0e7")]}
    return tree.store_bytes(HERE[how], LOADERS[how], None, lost)


def no_page_file(keys):
    manager = keys["ControlSet001"]["Control"]["Session Manager"]
    manager["Memory Management"]["PagingFiles"] = []


def checking(keys):
    manager = keys["ControlSet001"]["Control"]["Session Manager"]
    manager["Memory Management"]["VerifyDriverLevel"] = 0x209BB


def setup_runs(keys):
    keys["Setup"] = {"SystemSetupInProgress": 1, "SetupType": 2, "CmdLine": "welcome.exe"}


def renames(keys):
    manager = keys["ControlSet001"]["Control"]["Session Manager"]
    manager["PendingFileRenameOperations"] = ["\\??\\C:\\ferry\\temp\\old.dll", ""]
    keys["ControlSet001"]["Control"]["CrashControl"]["CrashDumpEnabled"] = 0


def switched_off(keys):
    keys["ControlSet001"]["Services"]["quayold"] = tree.service(4, 1, 3)
    filters(tree.DISKS, "quaydisk")(keys)


def letter_moved(keys):
    keys["MountedDevices"]["\\DosDevices\\C:"] = tree.letter_on_mbr(1, 1 << 20)
    keys["MountedDevices"]["\\DosDevices\\D:"] = LETTERS["bios"]


def service_gone(keys):
    keys["ControlSet001"]["Services"]["berthd"] = tree.service(2, 16, 1, ImagePath="berthd.exe")


def optional_driver(keys):
    keys["ControlSet001"]["Services"]["quaycam"] = tree.service(0, 1, 1)


def own_kernel(pc):
    """A kernel of another name, which the store names."""
    data = tree.store_bytes(HERE[pc.firmware], LOADERS[pc.firmware])
    pc.store(data)
    pc.write({f"{BASE}/drivers/extra.sys": program_bytes((), {"ntoskrnl.exe": ["IoCreateDevice"]})})


SOUND = (
    # firmware, what is special, warnings and notes
    ("bios", "as it was made", as_it_was, ()),
    ("uefi", "as it was made", as_it_was, ()),
    ("uefi", "starts in safe mode", store(safe_mode), ("start-setting-left",)),
    ("bios", "an entry for the next start that is gone", store(gone_once), ()),
    ("uefi", "odd lines before the session", settings(odd_start_up), ()),
    ("bios", "a service on another drive", settings(other_drives), ()),
    ("bios", "recovery entry gone", store(lost_recovery), ("recovery-unavailable",)),
    ("uefi", "no page file", settings(no_page_file), ("dumps-off",)),
    (
        "uefi",
        "an update not ended",
        write({"ferry/winsxs/pending.xml": b"<pending/>"}),
        ("update-unfinished",),
    ),
    ("bios", "tests drivers", settings(checking), ("driver-checking-left-on",)),
    ("uefi", "set-up not ended", settings(setup_runs), ("setup-unfinished",)),
    ("bios", "names wait, no dumps", settings(renames), ("renames-pending", "dumps-off")),
    ("uefi", "a driver switched off", settings(switched_off), ()),
    ("bios", "letter moved", settings(letter_moved), ("drive-letter-moved",)),
    ("uefi", "a service without program", settings(service_gone), ("service-missing",)),
    ("bios", "an optional driver gone", settings(optional_driver), ("boot-driver-missing",)),
    (
        "uefi",
        "an account set aside",
        software(accounts=(tree.ACCOUNT, tree.SET_ASIDE)),
        ("profile-set-aside",),
    ),
    (
        "bios",
        "a second program at sign-in",
        software(user_init="C:\\ferry\\system32\\userinit.exe, C:\\ferry\\explorer.exe"),
        ("sign-in-program-added",),
    ),
    ("uefi", "one file more", own_kernel, ()),
    (
        "bios",
        "an account without settings",
        lose("ntuser.dat"),
        ("profile-missing",),
    ),
)
