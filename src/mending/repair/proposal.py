"""What a repair hands over: the patches, and one sentence for each reason."""

from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from mending.boot import BootOptions, Grounds, Trace
from mending.disk import Disk, Progress, Volume
from mending.model import Change

Put = Callable[[Volume, Mapping[str, bytes], str], list[Change]]
"""Volume, files by path, and what they are for people; raises RefusedError where that cannot be done."""


class Leave(msgspec.Struct, frozen=True):
    """What the person has allowed beyond the usual, or told about the PC.

    Attributes:
        anyway: write although the present state would do.
        key_at_hand: the recovery key of an encrypted volume can be typed in if it is asked for.
        firmware: `bios` or `uefi` where it is known.
        options: what UEFI firmware remembers, where that is known.
        restore_from: a folder with sound copies of files: a mounted tree, or packages.
    """

    anyway: bool = False
    key_at_hand: bool = False
    firmware: str | None = None
    options: BootOptions | None = None
    restore_from: Path | None = None


class FilesRequest(msgspec.Struct, frozen=True, kw_only=True):
    """What a repair of files is given, on a disk or in a mounted tree.

    Attributes:
        grounds: the volumes and their files.
        trace: what the trace says of the target.
        leave: what is allowed.
        put: makes the changes that put a file in its place.
    """

    grounds: Grounds
    trace: Trace
    leave: Leave
    put: Put


class Request(FilesRequest, frozen=True, kw_only=True):
    """What a repair of a disk is given: the disk, too, and whom to tell how far it is."""

    disk: Disk
    progress: Progress


class Proposal(msgspec.Struct, frozen=True):
    """Everything a repair would change, before anything is written.

    Attributes:
        says: one sentence: what is written and why this kind.
        patches: do not overlap; in the order in which they are to be written.
        answers: ids of the findings that should be gone afterwards.
    """

    repair: str
    says: str
    patches: tuple[Change, ...]
    answers: tuple[str, ...]
