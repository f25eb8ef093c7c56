"""What is secret in the files of a system that diagnosis reads: what stands for a password,
passwords and credentials in tables of mounts and locks, names and passwords of automatic sign-ins.

Nothing is looked for that is known to be bad. Each file has fields, and of a field that may hold a
secret only what is known to be harmless stays: all else counts as secret. So a new kind of hash, a
new option or a row that is cut off is covered, too.

Layouts: passwd(5), shadow(5), gshadow(5), crypt(5), fstab(5), crypttab(5); the boot manager's
`password` commands (its manual, "Security"); cells of hives as in `formats/nt/hive_cells`.
"""

import re
import struct
from collections.abc import Callable, Iterator, Mapping

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
