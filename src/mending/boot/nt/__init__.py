"""The chain of the nt family from its boot manager to a sign-in: boot configuration, loader,
kernel, hives, drivers, programs of the session.
"""

from mending.boot.nt.boot_store import behind_code, behind_loader
from mending.boot.nt.file_list import StartFile, start_files
from mending.boot.nt.hive_copies import SET, copies_beside
from mending.boot.nt.kernel_files import beside_manager, keeps_manager
from mending.boot.nt.letters import letter_of, letter_place, own_names
from mending.boot.nt.replayed_hive import LOGS, replayed_hive
from mending.boot.nt.services import BOOT, DISABLED, Driver, drivers_of
from mending.boot.nt.sign_in import current_version
from mending.boot.nt.start import (
    Libraries,
    NtSettings,
    NtStart,
    Program,
    judge_program,
    read_program,
)
from mending.boot.nt.store_volumes import StoreVolumes, carried_store, store_places
from mending.boot.nt.system_hive import read_settings

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
    "own_names",
    "read_program",
    "read_settings",
    "replayed_hive",
    "start_files",
    "store_places",
]
