"""The files without which a Linux system does not start, checked against the sums of its own
package database.
"""

import hashlib
import re
import stat
import struct
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from mending.disk.files import FileDamagedError, Files
from mending.formats import packages
from mending.formats.packages import Package, PackagedFile
from mending.model import Progress, RefusedError
from mending.model.limits import LARGEST_PACKAGE, LARGEST_RESTORED, UNPACKED_PACKAGE
from mending.source import read_file, read_folder

_DATABASE = "var/lib/dpkg"
PACKAGE_STATUS = f"{_DATABASE}/status"
"""Where it is, a system keeps sums of its packages."""
_CACHE = "var/cache/apt/archives"
_STATUS_BYTES = 64 << 20
_ROOTS = (
    *(
        "init",
        "systemd-sysv",
        "sysvinit-core",
        "login",
        "passwd",
        "mount",
        "util-linux",
        "bash",
        "dash",
        "udev",
    ),
    *(
        "kmod",
        "e2fsprogs",
        "libpam-modules",
        "base-files",
        "initramfs-tools-core",
        "dbus",
        "coreutils",
    ),
)
"""Packages that a start cannot do without; what they depend on belongs to them. Kernels are added
by their name.
"""
_KERNELS = ("linux-image-", "linux-modules-")
_PLACES = (
    "/boot/",
    "/bin/",
    "/sbin/",
    "/lib/",
    "/lib64/",
    "/usr/bin/",
    "/usr/sbin/",
    "/usr/lib/",
    "/usr/lib64/",
)
_NEVER = ("/modules/", "/locale/", "/gconv/", "/perl/", "/doc/", "/python")


class FileCheck(msgspec.Struct, frozen=True):
    """One file that the database knows. `state` is `sound differs missing unreadable`."""

    path: str
    package: str
    state: str
    md5: str


class PackageFiles:
    """The package database of one system.

    Raises:
        RefusedError: there is no such database.
        FilesUnavailableError: damage hides it.
    """

    def __init__(self, files: Files) -> None:
        self._files = files
        status = files.find(PACKAGE_STATUS)
        if status is None:
            raise RefusedError(
                "This system keeps no package database that can be read here.",
                "Compare it with a sound one by hand.",
            )
        self._installed = packages.read_dpkg_status(_text(files.read(status, _STATUS_BYTES)))

    def check(self, progress: Progress) -> list[FileCheck]:
        """Every file that starting needs, read and compared."""
        wanted = list(self._wanted())
        found = []
        for number, (path, md5, package) in enumerate(wanted):
            progress(number, len(wanted))
            found.append(FileCheck(path, package, self._state(path, md5), md5))
        return found

    def check_named(self, paths: Iterable[str]) -> list[FileCheck]:
        """Those of these files that a package of what starting needs brought, read and compared.

        Args:
            paths: as they are on the volume; folders that were moved below `/usr` count as one.
        """
        left = {_merged(path): path for path in paths}
        found = []
        for path, md5, package in self._wanted():
            if _merged(path) in left:
                state = self._state(left.pop(_merged(path)), md5)
                found.append(FileCheck(path, package, state, md5))
            if not left:
                break
        return found

    def _wanted(self) -> Iterator[tuple[str, str, str]]:
        for name in self._critical():
            for path, md5 in self._sums(name).items():
                if path.startswith(_PLACES) and not any(part in path for part in _NEVER):
                    yield path, md5, name

    def missing_links(self, folder: Path | None) -> dict[str, PackagedFile]:
        """Links that are not there, as packages at hand bring them: out of packages in a folder, or
        in the system's own cache, whose other files are those of the database.
        """
        wanted: dict[str, set[str]] = {}
        for path, name in self._unsummed_missing():
            wanted.setdefault(name, set()).add(path)
        found: dict[str, PackagedFile] = {}
        for name, package in packages_at_hand(folder, self._files, set(wanted)):
            inside = list(packages.files_of(package, None, UNPACKED_PACKAGE, links=True))
            if self._is_installed(inside, name):
                links = (file for file in inside if file.is_link and file.path in wanted[name])
                found |= {file.path: file for file in links}
        return found

    def _unsummed_missing(self) -> Iterator[tuple[str, str]]:
        """Paths without a sum that are not there, and their packages: links, and folders."""
        for name in self._critical():
            sums = self._sums(name)
            for path in packages.read_dpkg_list(self._kept(name, "list")):
                outside = not path.startswith(_PLACES) or any(part in path for part in _NEVER)
                if not outside and path not in sums and self._files.find(path) is None:
                    yield path, name

    def _critical(self) -> list[str]:
        """Names of packages, what they depend on after them."""
        kernels = [name for name in self._installed if name.startswith(_KERNELS)]
        waiting = [name for name in (*kernels, *_ROOTS) if name in self._installed]
        found: dict[str, None] = {}
        while waiting:
            name = waiting.pop(0)
            if name not in found and name in self._installed:
                found[name] = None
                waiting += (
                    self._needs(self._installed[name]) if not name.startswith(_KERNELS) else []
                )
        return list(found)

    def _needs(self, package: Package) -> list[str]:
        return [name for name in package.needs if name in self._installed]

    def _sums(self, name: str) -> dict[str, str]:
        return packages.read_sums(self._kept(name, "md5sums"))

    def _kept(self, name: str, kind: str) -> str:
        """What the database keeps of a package; the file may carry the architecture in its name."""
        for architecture in ("", ":amd64", ":arm64", ":i386"):
            found = self._files.find(f"{_DATABASE}/info/{name}{architecture}.{kind}")
            if found is not None:
                return _text(self._files.read(found))
        return ""

    def _is_installed(self, files: Sequence[PackagedFile], name: str) -> bool:
        """Whether the files of a package are those of the installed one, by their sums."""
        sums = self._sums(name)
        plain = [file for file in files if not file.is_link and file.path in sums]
        return bool(plain) and all(_md5(file.data) == sums[file.path] for file in plain)

    def _state(self, path: str, md5: str) -> str:
        found = self._files.find(path)
        if found is None:
            return "missing"
        try:
            data = self._files.read(found, LARGEST_RESTORED)
        except FileDamagedError:
            return "unreadable"
        return "sound" if _md5(data) == md5 else "differs"


def _merged(path: str) -> str:
    return path.removeprefix("/usr")


def sound_copies(
    bad: list[FileCheck], folder: Path | None, files: Files
) -> dict[str, PackagedFile]:
    """Sound copies of bad files, by path: out of a mounted tree or packages in a folder, or the
    system's own cache.

    Nothing is taken whose sum is not the one in the database.

    Raises:
        InputError
    """
    wanted = {check.path: check.md5 for check in bad}
    found: dict[str, PackagedFile] = {}
    for copy in _offered(wanted, folder, files):
        if copy.path not in found and _md5(copy.data) == wanted.get(copy.path):
            found[copy.path] = copy
    return found


def _offered(wanted: dict[str, str], folder: Path | None, files: Files) -> Iterator[PackagedFile]:
    if folder is not None:
        for path in wanted:
            beside = folder / path.lstrip("/")
            if beside.is_file():
                info = beside.stat()
                mode = stat.S_IMODE(info.st_mode)
                data = read_file(beside, LARGEST_RESTORED)
                yield PackagedFile(path, mode, info.st_uid, info.st_gid, data)
    for _, package in packages_at_hand(folder, files):
        yield from packages.files_of(package, wanted, UNPACKED_PACKAGE)


def packages_at_hand(
    folder: Path | None, files: Files, names: Container[str] | None = None
) -> Iterator[tuple[str, bytes]]:
    """Names and bytes of packages in a folder, then of those in the system's own cache.

    Args:
        names: only packages of these names, as their files are called.
    """
    for beside in read_folder(folder) if folder is not None else []:
        name = beside.name.partition("_")[0]
        if beside.suffix == ".deb" and beside.is_file() and (names is None or name in names):
            yield name, read_file(beside, LARGEST_PACKAGE)
    cache = files.find(_CACHE)
    for held in files.listing(cache.path) if cache is not None and cache.is_folder else []:
        name = held.path.rpartition("/")[2].partition("_")[0]
        if held.path.endswith(".deb") and (names is None or name in names):
            yield name, files.read(held, LARGEST_PACKAGE)


def _md5(data: bytes) -> str:
    return hashlib.md5(data, usedforsecurity=False).hexdigest()


def _text(data: bytes) -> str:
    return data.decode("utf-8", errors="replace")


# What is secret in the files of a system that diagnosis reads: what stands for a password,
# passwords and credentials in tables of mounts and locks, names and passwords of automatic
# sign-ins.
#
# Nothing is looked for that is known to be bad. Each file has fields, and of a field that may hold
# a secret only what is known to be harmless stays: all else counts as secret. So a new kind of
# hash, a new option or a row that is cut off is covered, too.
#
# Layouts: passwd(5), shadow(5), gshadow(5), crypt(5), fstab(5), crypttab(5); the boot manager's
# `password` commands (its manual, "Security"); cells of hives as in `formats/hives`.


Span = tuple[int, int]
"""First byte of a secret in a file, and the one behind its last."""

_NO_PASSWORD = frozenset({b"", b"x", b"*", b"!", b"!!", b"!*", b"*LK*", b"*NP*", b"NP", b"LK"})
_LOCKED = re.compile(rb"[!*]*(?:\$[0-9a-z][0-9a-z-]{0,15}\$)?")
"""Marks of a locked account and the name of a method, which tell nothing; the rest is secret."""
_KEYWORDS = frozenset(
    b"auto noauto user nouser users owner group ro rw exec noexec suid nosuid dev nodev sync async"
    b" atime noatime relatime norelatime strictatime lazytime nofail _netdev defaults remount bind"
    b" rbind discard nodiscard compress quota usrquota grpquota acl noacl user_xattr swap luks"
    b" plain tcrypt initramfs readonly read-only noearly tries loud quiet keyscript none loop"
    b" iversion discard ssd nossd autodefrag space_cache barrier nobarrier".split()
)
_OPTIONS = frozenset(
    b"errors uid gid umask dmask fmask mode size nr_inodes subvol subvolid compress commit data"
    b" journal_checksum barrier iocharset codepage utf8 shortname pri stripe inode64 logbufs"
    b" logbsize"
    b" usrjquota grpjquota jqfmt offset skip key-slot timeout tries cipher hash size sector-size"
    b" header tpm2-device fido2-device pkcs11-uri x-initrd.mount space_cache".split()
)
"""Options of mounts and locks whose values are no secret."""
_SYSTEMD = b"x-systemd."
_SAFE_SOURCE = re.compile(
    rb"(?i)(?:(?:uuid|label|partuuid|partlabel|id)=[^:@]*|/dev/[^:@]*|/[^:@]*|[a-z0-9_-]*)"
)
_SAFE_KEY = frozenset({b"none", b"-", b""})
_PASSWORD_LINE = re.compile(rb"(?m)^[ \t]*password(?:_pbkdf2)?[ \t]+(\S+)[ \t]+(\S.*)$")
_SIGN_IN = (
    "DefaultPassword",
    "DefaultUserName",
    "DefaultDomainName",
    "AltDefaultUserName",
    "AltDefaultDomainName",
    "AutoLogonSID",
    "LastUsedUsername",
    "LastLoggedOnUser",
    "LastLoggedOnSAMUser",
    "LastLoggedOnUserSID",
    "LastLoggedOnDisplayName",
)
_VALUE = struct.Struct("<2sHIIIHH")
_HIVE_HEAD, _RESIDENT, _MOST_VALUE = 4096, 1 << 31, 16_384


def private_spans(path: str, data: bytes) -> list[Span]:
    """The secrets in a file of a system, by its path; none in a file that is not known to have any.

    Args:
        path: on its volume.
        data: the whole file.
    """
    reader = _READERS.get(path.casefold().lstrip("/"))
    if reader is None and path.rpartition("/")[2].casefold() in _BY_NAME:
        reader = _BY_NAME[path.rpartition("/")[2].casefold()]
    return [(start, end) for start, end in reader(data) if start < end] if reader else []


def private_files() -> tuple[str, ...]:
    """The paths of files of Linux systems that have secrets."""
    return tuple(_READERS)


def _accounts(data: bytes) -> Iterator[Span]:
    """The second field of each row; a row may end behind it."""
    for start, row in _rows(data):
        fields = row.split(b":")
        if len(fields) < 2 or fields[1] in _NO_PASSWORD:
            continue
        first = start + len(fields[0]) + 1
        mark = _LOCKED.match(fields[1])
        yield first + (mark.end() if mark else 0), first + len(fields[1])


def _mounts(data: bytes) -> Iterator[Span]:
    for start, row in _rows(data):
        if row.lstrip()[:1] == b"#":
            yield start, start + len(row)
            continue
        fields = list(re.finditer(rb"\S+", row))
        if fields and not _SAFE_SOURCE.fullmatch(fields[0].group()):
            yield start + fields[0].start(), start + fields[0].end()
        for field in fields[3:4]:
            yield from _option_values(start + field.start(), field.group())


def _locks(data: bytes) -> Iterator[Span]:
    for start, row in _rows(data):
        if row.lstrip()[:1] == b"#":
            yield start, start + len(row)
            continue
        fields = list(re.finditer(rb"\S+", row))
        for field in fields[2:3]:
            if field.group() not in _SAFE_KEY and not field.group().startswith(b"/"):
                yield start + field.start(), start + field.end()
        for field in fields[3:4]:
            yield from _option_values(start + field.start(), field.group())


def _option_values(at: int, options: bytes) -> Iterator[Span]:
    """Of options with commas between them, all that is neither a known word nor the value of a
    known option.
    """
    for option in options.split(b","):
        name, equals, value = option.partition(b"=")
        if equals and name not in _OPTIONS and not name.startswith(_SYSTEMD):
            yield at + len(name) + 1, at + len(name) + 1 + len(value)
        elif not equals and name not in _KEYWORDS and not name.startswith(_SYSTEMD):
            yield at, at + len(name)
        at += len(option) + 1


def _menu_passwords(data: bytes) -> Iterator[Span]:
    for found in _PASSWORD_LINE.finditer(data):
        yield found.span(2)


def _sign_ins(data: bytes) -> Iterator[Span]:
    """Values of a hive with the names of automatic sign-ins: their data, wherever the cell lies."""
    for name in _SIGN_IN:
        for written, flag in ((name.encode("ascii"), 1), (name.encode("utf-16-le"), 0)):
            for found in re.finditer(re.escape(written), data, re.IGNORECASE):
                head = found.start() - _VALUE.size
                if head < _HIVE_HEAD:
                    continue
                mark, length, size, place, _, flags, _ = _VALUE.unpack_from(data, head)
                if mark != b"vk" or length != len(written) or flags & 1 != flag:
                    continue
                if size & _RESIDENT:
                    yield head + 8, head + 12
                elif size <= _MOST_VALUE:
                    first = _HIVE_HEAD + place + 4
                    yield min(first, len(data)), min(first + size, len(data))


def _rows(data: bytes) -> Iterator[tuple[int, bytes]]:
    at = 0
    for line in data.split(b"\n"):
        yield at, line.rstrip(b"\r")
        at += len(line) + 1


_READERS: Mapping[str, Callable[[bytes], Iterator[Span]]] = {
    **{
        f"etc/{name}{ending}": _accounts
        for name in ("passwd", "shadow", "group", "gshadow")
        for ending in ("", "-")
    },
    "etc/fstab": _mounts,
    "etc/crypttab": _locks,
}
_BY_NAME: Mapping[str, Callable[[bytes], Iterator[Span]]] = {
    "grub.cfg": _menu_passwords,
    "software": _sign_ins,
}
