"""The chain of the nt family from its boot manager to a sign-in: boot configuration, loader,
kernel, hives, drivers, programs of the session.
"""

from mending.boot.nt.kernel_files import StartFile, beside_manager, keeps_manager, start_files
from mending.boot.nt.session import current_version, letter_of, letter_place, own_names
from mending.boot.nt.start import (
    BOOT,
    DISABLED,
    LOGS,
    Driver,
    Libraries,
    NtSettings,
    NtStart,
    Program,
    drivers_of,
    judge_program,
    read_program,
    replayed_hive,
)
from mending.boot.nt.store import (
    StoreVolumes,
    behind_code,
    behind_loader,
    carried_store,
    store_places,
)
from mending.boot.nt.system_hive import SET, copies_beside, lost_filters, read_settings

__all__ = [
    "BOOT",
    "DISABLED",
    "LOGS",
    "SET",
    "Driver",
    "Libraries",
    "NtSettings",
    "NtStart",
    "Program",
    "StartFile",
    "StoreVolumes",
    "behind_code",
    "behind_loader",
    "beside_manager",
    "carried_store",
    "copies_beside",
    "current_version",
    "drivers_of",
    "judge_program",
    "keeps_manager",
    "letter_of",
    "letter_place",
    "lost_filters",
    "own_names",
    "read_program",
    "read_settings",
    "replayed_hive",
    "start_files",
    "store_places",
]
