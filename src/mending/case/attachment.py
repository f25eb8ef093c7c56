"""Evidence that lies outside of its case: who attached it, and by what it is known again.

A case is a folder, and folders are copied, sent and unpacked elsewhere. The path of a disk in such
a folder may name somebody else's disk, or be put there by somebody who wants a file of this machine
to be read or written. So what lies outside is sealed when it is attached: a keyed hash, under a key
that this machine alone has, over the path and over the case that it was attached to. A case is
known by its place, or, where it was moved on its file system, by the numbers of its folder and of
the file in it that never changes. A copy has neither, so its seals hold no longer; then the person
at this machine has to attach the evidence again, and nothing is read or written before.
"""

import hashlib
import hmac
from pathlib import Path

import msgspec

from mending.model import RefusedError, encode_json, quoted
from mending.source import Identity

CASE_FILE = "case.json"


class Home(msgspec.Struct, frozen=True):
    """By what a case folder is known: its path, and the numbers that its file system gives to the
    device, the folder and the case file.
    """

    path: str
    device: int
    folder: int
    file: int


class Outside(msgspec.Struct, frozen=True, kw_only=True):
    """What is kept of evidence that lies outside of its case.

    Attributes:
        home: the case that it was attached to.
        seal: see above, in hex.
        identity: by what a disk is known again; None for what is no disk.
        lasting: the name of a device that goes with the drive; empty without one.
    """

    home: Home
    seal: str
    identity: Identity | None = None
    lasting: str = ""


def home_of(case: Path) -> Home:
    """By what a case folder is known now.

    Raises:
        OSError
    """
    folder, file = case.stat(), (case / CASE_FILE).stat()
    return Home(str(case.resolve()), folder.st_dev, folder.st_ino, file.st_ino)


def attach_outside(
    home: Home, path: str, key: bytes, identity: Identity | None = None, lasting: str = ""
) -> Outside:
    """What is kept of evidence that is attached now to a case."""
    return Outside(
        home=home, seal=_seal(home, path, lasting, key), identity=identity, lasting=lasting
    )


def was_attached_here(case: Path, path: str, outside: Outside | None, key: bytes | None) -> bool:
    """Whether this machine attached the evidence to this very case."""
    if outside is None or key is None:
        return False
    seal = _seal(outside.home, path, outside.lasting, key)
    if not hmac.compare_digest(outside.seal.encode("utf-8", "replace"), seal.encode()):
        return False
    try:
        now, then = home_of(case), outside.home
    except OSError:
        return False
    numbers = (now.device, now.folder, now.file) == (then.device, then.folder, then.file)
    return numbers or now.path == then.path


def refuse_elsewhere(case: Path, path: str) -> RefusedError:
    """The refusal of evidence that this machine did not attach to this case."""
    return RefusedError(
        f"{path} was not attached to the case {case} on this machine: it is a copy, or comes from"
        " elsewhere.",
        f"If that is what you mean: mending add {quoted(case)} {quoted(path)}",
    )


def _seal(home: Home, path: str, lasting: str, key: bytes) -> str:
    sealed = encode_json([home, path, lasting])
    return hmac.new(key, sealed, hashlib.sha256).hexdigest()
