"""Lists that a package database keeps of its files, and the packages themselves.

Sources: the manual pages dpkg-query(1), deb-md5sums(5), deb-src-control(5) "Paragraphs", deb(5) of
dpkg 1.21; the layout of `ar` archives as deb(5) uses it.
"""

import gzip
import io
import lzma
import re
import zlib
from collections.abc import Container, Iterator
from typing import Any, BinaryIO

import msgspec

from mending.model import LogRecord, load_unpacker, read_time

_AR_MAGIC, _AR_HEAD = b"!<arch>\n", 60
_SUM = re.compile(r"([0-9a-f]{32})  (.+)")
_RELATION = re.compile(r"[a-z0-9][a-z0-9.+-]*")
_MOST_MEMBERS = 16


class Package(msgspec.Struct, frozen=True):
    """One installed package; `needs` has the first name of each alternative."""

    name: str
    version: str
    needs: tuple[str, ...]


def read_dpkg_status(text: str) -> dict[str, Package]:
    """The installed packages of a status file, by name."""
    found = {}
    for paragraph in text.split("\n\n"):
        fields = _fields(paragraph)
        if fields.get("Status", "").endswith(" installed") and "Package" in fields:
            relations = f"{fields.get('Pre-Depends', '')}, {fields.get('Depends', '')}".split(",")
            needs = (
                match.group()
                for relation in relations
                if (match := _RELATION.match(relation.strip()))
            )
            package = Package(
                fields["Package"], fields.get("Version", ""), tuple(dict.fromkeys(needs))
            )
            found[package.name] = package
    return found


def _fields(paragraph: str) -> dict[str, str]:
    rows = (row.partition(":") for row in paragraph.split("\n") if row and not row[0].isspace())
    return {key: value.strip() for key, colon, value in rows if colon}


def read_sums(text: str) -> dict[str, str]:
    """Paths, from the top with a slash, and their MD5 sums in hex. Rows that are none are passed
    over.
    """
    matches = (_SUM.fullmatch(row) for row in text.splitlines())
    return {f"/{match.group(2)}": match.group(1) for match in matches if match}


def read_dpkg_list(text: str) -> list[str]:
    """Every path of a package, folders and links included (dpkg-query(1), `--listfiles`)."""
    return [row for row in text.splitlines() if row.startswith("/") and row != "/."]


class PackagedFile(msgspec.Struct, frozen=True):
    """A file of a package: permission bits, numbers of its owner and group, and its bytes.

    `is_link`: a symbolic link; its bytes are what it points at.
    """

    path: str
    mode: int
    owner: int
    group: int
    data: bytes
    is_link: bool = False


def files_of(
    package: bytes, wanted: Container[str] | None, most: int, links: bool = False
) -> Iterator[PackagedFile]:
    """Files out of a package, by paths as `read_sums` gives them. Damage, and a package that grows
    beyond its bounds, end the walk quietly: sums decide.

    Args:
        package: the whole `.deb` file.
        wanted: which paths; None for all.
        most: bytes that may come out of it in all.
        links: whether symbolic links are given, too.
    """
    import tarfile  # noqa: PLC0415 - lazy, for it is slow to load

    inside = _data_of(package)
    if inside is None:
        return
    try:
        with tarfile.open(fileobj=_Bounded(inside, most), mode="r|") as archive:
            for member in archive:
                path = "/" + member.name.removeprefix("./").lstrip("/")
                if wanted is not None and path not in wanted:
                    continue
                if links and member.issym():
                    target = member.linkname.encode("utf-8", errors="surrogateescape")
                    yield PackagedFile(path, 0o777, member.uid, member.gid, target, is_link=True)
                held = archive.extractfile(member) if member.isreg() else None
                if held is not None and member.size <= most:
                    mode = member.mode & 0o7777
                    yield PackagedFile(path, mode, member.uid, member.gid, held.read())
    except (tarfile.TarError, lzma.LZMAError, zlib.error, EOFError, OSError, ValueError):
        return


class _Bounded(io.RawIOBase):
    """What is unpacked, up to so many bytes: a small package can grow without end.

    Raises:
        OSError: beyond them, and for the error of the one library that has a class of its own.
    """

    def __init__(self, inner: Any, most: int) -> None:
        self._inner, self._left = inner, most

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        try:
            data = self._inner.read(min(len(buffer), self._left + 1))
        except Exception as error:  # its class is known only once the library is loaded
            if type(error).__module__.startswith(("zstandard", "zstd")):
                raise OSError(str(error)) from error
            raise
        self._left -= len(data)
        if self._left < 0:
            raise OSError("it grows beyond all bounds")
        buffer[: len(data)] = data
        return len(data)


def _data_of(package: bytes) -> Any:
    """The archive of files, as it is unpacked; None where there is none."""
    at = len(_AR_MAGIC)
    if not package.startswith(_AR_MAGIC):
        return None
    for _ in range(_MOST_MEMBERS):
        head = package[at : at + _AR_HEAD]
        if len(head) < _AR_HEAD or not head[48:58].strip().isdigit():
            return None
        size = int(head[48:58])
        if head.startswith(b"data.tar"):
            raw = io.BytesIO(package[at + _AR_HEAD : at + _AR_HEAD + size])
            return _unpacking(raw, head[:16].strip().rstrip(b"/").rpartition(b".")[2])
        at += _AR_HEAD + size + size % 2
    return None


def _unpacking(raw: io.BytesIO, suffix: bytes) -> Any:
    if suffix == b"zst":
        return load_unpacker("zstandard").ZstdDecompressor().stream_reader(raw)
    if suffix in {b"xz", b"lzma"}:
        return lzma.LZMAFile(raw)
    if suffix == b"gz":
        return gzip.GzipFile(fileobj=raw)
    return raw


# The history that a package manager keeps of what it was asked for: paragraphs, one a call.
#
# Source: `apt-history` as apt 2.6 writes it (apt-pkg/deb/dpkgpm.cc, `OpenLog`): `Start-Date`, then
# a field for each kind of change with `name:architecture (versions)`, between commas.


_BEGINS = b"Start-Date: "
_LONGEST = 1 << 20
_ONE = re.compile(r"([a-z0-9][a-z0-9+.-]*)(?::\w+)? \(([^()]*)\)")
_ACTIONS = {
    "Install": "install {name} <none> {new}",
    "Upgrade": "upgrade {name} {old} {new}",
    "Downgrade": "upgrade {name} {old} {new}",
    "Remove": "remove {name} {old} <none>",
    "Purge": "remove {name} {old} <none>",
}


def is_history(head: bytes) -> bool:
    """Whether a file begins as such a history does."""
    return head.lstrip().startswith(_BEGINS)


def read_history(stream: BinaryIO) -> Iterator[LogRecord]:
    """Each change as the package system below writes it in its own log."""
    at: float | None = None
    number = 0
    while line := stream.readline(_LONGEST):
        number += 1
        name, _, words = line.decode("utf-8", "replace").rstrip().partition(": ")
        if name == "Start-Date":
            read = read_time(" ".join(words.split()))
            at = read[0] if read is not None else None
        action = _ACTIONS.get(name)
        if action is None or at is None:
            continue
        for package, versions in _ONE.findall(words):
            parts = [part for part in versions.split(", ") if part != "automatic"] or ["?"]
            text = action.format(name=package, old=parts[0], new=parts[-1])
            yield LogRecord(at=at, text=text, line=number, zoned=False)


# The list of files that a package database of plain folders keeps of each package.
#
# Source: the manual page alpm-db (local database, `files`): sections named between per cent signs,
# one path a line, from the top without a slash.


_SECTION = "%FILES%"


def read_pacman_list(text: str) -> list[str]:
    """Every path of a package, from the top with a slash."""
    found, inside = [], False
    for row in text.splitlines():
        if row.startswith("%") and row.endswith("%"):
            inside = row == _SECTION
        elif inside and row:
            found.append(f"/{row}")
    return found


# What a package of module sources builds: `dkms.conf`.
#
# Source: the manual page dkms(8), "DKMS.CONF": lines of `NAME=value` for a shell; `PACKAGE_NAME`,
# and `BUILT_MODULE_NAME[n]` of each module, which for one module may be left out. Nothing is
# executed: values that a shell would have to work out are left out.


_ROW = re.compile(
    r"\s*(PACKAGE_NAME|BUILT_MODULE_NAME(?:\[\d+\])?)=[\"']?([\w.+-]+)[\"']?\s*(?:#.*)?"
)


def built_modules(text: str) -> list[str]:
    """Names of the modules that are built."""
    rows = [match.groups() for row in text.splitlines() if (match := _ROW.fullmatch(row))]
    modules = [value for name, value in rows if name != "PACKAGE_NAME"]
    return modules or [value for name, value in rows if name == "PACKAGE_NAME"][:1]
