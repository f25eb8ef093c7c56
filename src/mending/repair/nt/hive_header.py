"""The repair `hive-header`: the base block of a hive rebuilt where its bins are sound to the last
cell and every key can be read.

The length is that of the bins themselves; a log must not tell of more. Where the root is, the old
base block tells, or the mark of the one root key.
"""

import struct
from collections.abc import Iterator

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, SET
from mending.disk.hives import Hive, newest_of, read_to_end
from mending.disk.volume import Volume
from mending.formats.nt import hive_base
from mending.formats.nt.hive_base import BASE_BYTES, NOTHING
from mending.formats.nt.hive_cells import read_key
from mending.model import Change, FindingId, InputError, RefusedError, RepairId, Window
from mending.model.limits import HIVE_BYTES
from mending.repair.base import Proposal, Request
from mending.repair.files import nt_homes, put_hive, store_volumes

REPAIR = RepairId.HIVE_HEADER
_FOLDER = "system32/config"
_BIN_HEAD, _ROOT_FLAG, _MAJOR, _MINORS = 32, 4, 1, range(3, 7)
_USUAL_MINOR, _NEWEST = 5, 6


def propose(request: Request) -> Proposal:
    """Changes of the base blocks of every hive that a finding names and whose bins are sound.

    Raises:
        RefusedError: none is, or none needs it.
    """
    changes, told, why = list[Change](), list[str](), ""
    for volume, path in _hives(request):
        data = _read(request, volume, path)
        logs = [_read(request, volume, f"{path}{ending}") for ending in LOGS]
        if not _needs(data):
            continue
        try:
            after = rebuilt(data, logs)
        except InputError as error:
            why = why or f"{path}: {error.says}"
            continue
        changes += put_hive(request, volume, path, data, after, f"base block of {path}")
        told.append(path)
    if not changes:
        says = why or "The base block of every hive is sound."
        raise RefusedError(says, "Put back a whole set: hive-set." if why else "")
    kinds = (FindingId.HIVE_DAMAGED, FindingId.BOOT_STORE_DAMAGED)
    named = {path.casefold() for path in told}
    return Proposal(
        repair=REPAIR,
        says=f"Rebuilds the base block of {', '.join(told)}: the bins are sound to the last cell.",
        changes=tuple(changes),
        answers=tuple(
            each for each in request.found(*kinds) if (each.where.path or "").casefold() in named
        ),
        fault_after=lambda _trace: "",
    )


def rebuilt(data: bytes, logs: list[bytes]) -> bytes:
    """A hive with a base block made anew.

    Raises:
        InputError: its bins are broken, or disagree with what else tells of them.
    """
    old = hive_base.read(Window(data[:BASE_BYTES])).record
    length = hive_base.bins_length(data)
    if not length:
        raise InputError("it holds no bins.")
    heads = [hive_base.read(Window(log[:512])) for log in logs if len(log) >= 512]
    told = {head.record.bins for head in heads if not head.problems}
    if told and length not in told and max(told) > length:
        raise InputError(f"its logs tell of {max(told)} bytes of bins, and {length} are there.")
    problems = hive_base.check_bins(data[BASE_BYTES:], length)
    if problems:
        raise InputError(f"its bins are broken at offset {problems[0].offset}.")
    roots = [old.root] if _is_root(data, old.root) else _roots(data, length)
    if len(roots) != 1:
        raise InputError(f"it holds {len(roots)} root keys.")
    root = roots[0]
    minors = [head.record.minor for head in heads if head.record.minor in _MINORS]
    known = (old.major, old.minor in _MINORS) == (_MAJOR, True) and old.magic == hive_base.MAGIC
    minor = old.minor if known else next(iter(minors), _USUAL_MINOR)
    number = max(newest_of(logs), old.first if known else 0, old.second if known else 0) + 1
    base = bytearray(data[:BASE_BYTES]) if known else bytearray(BASE_BYTES)
    fields = (hive_base.MAGIC, number & NOTHING, number & NOTHING, old.written if known else 0)
    struct.pack_into("<4sIIQ", base, 0, *fields)
    struct.pack_into("<IIIIII", base, 20, _MAJOR, minor, 0, 1, root, length)
    struct.pack_into("<I", base, 44, 1)
    base[508:512] = hive_base.checksum(bytes(base[:512])).to_bytes(4, "little")
    after = bytes(base) + data[BASE_BYTES:]
    read_to_end(Hive(after))
    return after


def _roots(data: bytes, length: int) -> list[int]:
    """Every cell in use that holds a root key."""
    found, start = [], 0
    while start < length:
        (size,) = struct.unpack_from("<I", data, BASE_BYTES + start + 8)
        at = start + _BIN_HEAD
        while at < start + size:
            (wide,) = struct.unpack_from("<i", data, BASE_BYTES + at)
            found += [at] if wide < 0 and _is_root(data, at) else []
            at += abs(wide)
        start += size
    return found


def _is_root(data: bytes, at: int) -> bool:
    place = BASE_BYTES + at + 4
    try:
        return bool(read_key(data[place : place + 512], at).flags & _ROOT_FLAG)
    except InputError:
        return False


def _needs(data: bytes) -> bool:
    if len(data) < BASE_BYTES:
        return bool(data)
    problems = hive_base.read(Window(data[:BASE_BYTES])).problems
    # a write that was cut off is no fault of the head: to call it finished would hide what is lost
    return any(problem.code != "write-unfinished" for problem in problems)


def _hives(request: Request) -> Iterator[tuple[Volume, str]]:
    """The hives of every system, and boot configurations."""
    environment = request.environment
    for start in nt_homes(request):
        for name in SET:
            found = environment.find(start.volume, start.path(f"{_FOLDER}/{name}"))
            if found is not None and not found.is_folder:
                yield start.volume, found.path
    yield from store_volumes(request)


def _read(request: Request, volume: Volume, path: str) -> bytes:
    try:
        return request.environment.read(volume, path, HIVE_BYTES)
    except OutOfReachError as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error
