"""Which files a person means by a folder, a suffix or a kind, from `files.toml`."""

import re
from functools import cache
from pathlib import Path

import msgspec

from mending.model import UsageError

_FOLDER = Path(__file__).parent / "packs" / "families"


class FileWishes(msgspec.Struct, frozen=True):
    """Files by where they are and how their names end, in small letters.

    Attributes:
        folders: beginnings of paths.
        suffixes: ends of names, with their dot.
    """

    folders: tuple[str, ...]
    suffixes: tuple[str, ...] = ()

    def wants(self, path: str) -> bool:
        """Whether a file is among them."""
        name = path.lower()
        return name.startswith(self.folders) or (
            bool(self.suffixes) and name.endswith(self.suffixes)
        )


class _Personal(msgspec.Struct, frozen=True):
    folders: tuple[str, ...]


class _FileNames(msgspec.Struct, frozen=True):
    personal: _Personal
    kinds: dict[str, tuple[str, ...]]


@cache
def _names() -> _FileNames:
    data = (_FOLDER / "files.toml").read_bytes()
    return msgspec.toml.decode(data, type=_FileNames)


def wishes_of(words: tuple[str, ...]) -> FileWishes:
    """What comes first: folders start with a slash, suffixes with a dot, kinds are words.

    Raises:
        UsageError: no such kind.
    """
    names = _names()
    if not words:
        return FileWishes(names.personal.folders)
    folders, suffixes = list[str](), list[str]()
    for word in words:
        lower = word.lower()
        if lower.startswith("/"):
            folders.append(lower)
        elif lower.startswith("."):
            suffixes.append(lower)
        elif lower in names.kinds:
            suffixes += names.kinds[lower]
        else:
            kinds = ", ".join(names.kinds)
            raise UsageError(
                f"{word!r} is no folder (/home/purser), suffix (.odt) or kind of files.",
                f"Kinds: {kinds}.",
            )
    return FileWishes(tuple(folders), tuple(suffixes))


# What the names of packages say, from `packages.toml`.


_SPLIT = re.compile(r"[^a-z0-9_]+")


class PackageWords(msgspec.Struct, frozen=True, rename="kebab"):
    """Words in names of packages, in small letters; see the file."""

    kernels: tuple[str, ...]
    whole_kernels: frozenset[str]
    kernel_code: frozenset[str]
    near_kernel: frozenset[str]
    filling: frozenset[str]

    def is_kernel(self, name: str) -> bool:
        """Whether a package is a kernel, which brings all modules."""
        return name in self.whole_kernels or name.startswith(self.kernels)

    def is_kernel_code(self, name: str) -> bool:
        """Whether what it brings runs in the kernel or below it."""
        return self.is_kernel(name) or not self.kernel_code.isdisjoint(_SPLIT.split(name))

    def is_near_kernel(self, name: str) -> bool:
        """Whether it drives hardware from outside of the kernel."""
        return not self.near_kernel.isdisjoint(_SPLIT.split(name))


@cache
def package_words() -> PackageWords:
    """The words."""
    data = (_FOLDER / "packages.toml").read_bytes()
    return msgspec.toml.decode(data, type=PackageWords)


# The names of the nt family, from `nt.toml`.


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
    data = (_FOLDER / "nt.toml").read_bytes()
    return msgspec.toml.decode(data, type=NtNames)
