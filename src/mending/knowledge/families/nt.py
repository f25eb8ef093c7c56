"""The names of the nt family, from `nt.toml`."""

from functools import cache
from pathlib import Path

import msgspec


class StoreNames(msgspec.Struct, frozen=True):
    """Where the boot configuration is kept, and which first files of boot code read it."""

    managers: tuple[str, ...]
    beside_code: str
    beside_loader: str


class ManagerNames(msgspec.Struct, frozen=True):
    """Where a system keeps its managers."""

    efi_folder: str
    bios_folder: str


class LoaderNames(msgspec.Struct, frozen=True):
    """The loader of a system, by firmware."""

    bios: str
    uefi: str


class KernelNames(msgspec.Struct, frozen=True):
    """The loaders, the kernel, its hardware layer, and where their libraries are."""

    loaders: LoaderNames
    file: str
    hardware_layer: str
    library_folders: tuple[str, ...]
    virtual_libraries: tuple[str, ...]


class DriverNames(msgspec.Struct, frozen=True):
    """Where drivers are, how paths to the system's folder begin, which groups reach disks, which of
    them controllers, and without which nothing starts.
    """

    folder: str
    needed_groups: tuple[str, ...]
    controller_groups: tuple[str, ...]
    system_root: tuple[str, ...]
    system_drive: tuple[str, ...]
    storage_groups: tuple[str, ...]


class CatalogueNames(msgspec.Struct, frozen=True):
    """Where lists of digests of the system's files are."""

    folder: str


class FileStoreNames(msgspec.Struct, frozen=True):
    """Where copies of system files are."""

    folder: str


class ClassName(msgspec.Struct, frozen=True):
    """A class of devices. `what` is for sentences."""

    guid: str
    what: str


class SessionNames(msgspec.Struct, frozen=True):
    """What runs before anybody can sign in; older systems lack those that are `newer`."""

    programs: tuple[str, ...]
    newer: tuple[str, ...]
    hives: tuple[str, ...]
    before_session: str
    check_of_volumes: str


class SignInNames(msgspec.Struct, frozen=True):
    """What runs at a sign-in, and where accounts keep their files."""

    current: str
    key: str
    programs: str
    shell: str
    own_programs: str
    own_shell: str
    profiles: str
    profile_hive: str


class Setting(msgspec.Struct, frozen=True):
    """An element of the boot configuration that changes a start.

    Attributes:
        values: those that do so; empty for every one but 0.
    """

    element: int
    says: str
    values: tuple[int, ...] = ()


class NtNames(msgspec.Struct, frozen=True):
    """All of them."""

    store: StoreNames
    manager: ManagerNames
    kernel: KernelNames
    drivers: DriverNames
    classes: tuple[ClassName, ...] = msgspec.field(name="class")
    catalogues: CatalogueNames
    file_store: FileStoreNames
    session: SessionNames
    sign_in: SignInNames
    settings: tuple[Setting, ...] = msgspec.field(name="setting")


@cache
def nt_names() -> NtNames:
    """The names of the family, read once."""
    data = Path(__file__).with_name("nt.toml").read_bytes()
    return msgspec.toml.decode(data, type=NtNames)
