"""Lists that a package database keeps of its files, and the packages themselves.

Sources: the manual pages dpkg-query(1), deb-md5sums(5), deb-src-control(5) "Paragraphs", deb(5) of
dpkg 1.21; the layout of `ar` archives as deb(5) uses it.
"""

import io
import lzma
import re
import tarfile
from collections.abc import Iterator, Mapping

import msgspec

from mending.model import MendingError, load_extra

_AR_MAGIC, _AR_HEAD = b"!<arch>\n", 60
_SUM = re.compile(r"([0-9a-f]{32})  (.+)")
_RELATION = re.compile(r"[a-z0-9][a-z0-9.+-]*")
_MOST_MEMBERS = 16


class Package(msgspec.Struct, frozen=True):
    """One installed package; `needs` has the first name of each alternative."""

    name: str
    version: str
    needs: tuple[str, ...]


def read_status(text: str) -> dict[str, Package]:
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


def files_of(package: bytes, wanted: Mapping[str, str]) -> Iterator[tuple[str, bytes]]:
    """Files out of a package, by paths as `read_sums` gives them. Damage ends the walk quietly:
    sums decide.

    Args:
        package: the whole `.deb` file.
        wanted: which paths.
    """
    data = _member(package, b"data.tar")
    if data is None:
        return
    try:
        with tarfile.open(fileobj=io.BytesIO(data)) as archive:
            for member in archive:
                path = "/" + member.name.removeprefix("./").lstrip("/")
                held = archive.extractfile(member) if member.isreg() and path in wanted else None
                if held is not None:
                    yield path, held.read()
    except (tarfile.TarError, lzma.LZMAError, EOFError, OSError):
        return


def _member(package: bytes, name: bytes) -> bytes | None:
    """The content of the first member whose name starts so, unpacked where the standard library
    does not.
    """
    at = len(_AR_MAGIC)
    if not package.startswith(_AR_MAGIC):
        return None
    for _ in range(_MOST_MEMBERS):
        head = package[at : at + _AR_HEAD]
        if len(head) < _AR_HEAD or not head[48:58].strip().isdigit():
            return None
        size = int(head[48:58])
        if head.startswith(name):
            data = package[at + _AR_HEAD : at + _AR_HEAD + size]
            return _unpacked(data) if head[:16].strip().rstrip(b"/").endswith(b".zst") else data
        at += _AR_HEAD + size + size % 2
    return None


def _unpacked(data: bytes) -> bytes | None:
    """None for damaged data, and where the extra `files` is not installed."""
    try:
        unpack = load_extra("zstandard", "files").ZstdDecompressor().decompressobj()
        unpacked: bytes = unpack.decompress(data)
    except MendingError:
        return None
    except Exception as error:  # the library's own error class, known only once it is loaded
        if type(error).__module__.startswith(("zstandard", "zstd")):
            return None
        raise
    return unpacked
