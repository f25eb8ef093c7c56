"""What a repair hands over: the patches, and one sentence for each reason."""

import msgspec

from mending.boot import Trace
from mending.disk import Disk, Progress
from mending.model import Patch


class Leave(msgspec.Struct, frozen=True):
    """What the person has allowed beyond the usual, or told about the PC.

    Attributes:
        anyway: write although the present state would do.
        key_at_hand: the recovery key of an encrypted volume can be typed in if it is asked for.
        firmware: `bios` or `uefi` where it is known.
    """

    anyway: bool = False
    key_at_hand: bool = False
    firmware: str | None = None


class Request(msgspec.Struct, frozen=True):
    """What a repair is given: the disk, what the trace says of it, what is allowed, and whom to tell how far it is."""

    disk: Disk
    trace: Trace
    leave: Leave
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
    patches: tuple[Patch, ...]
    answers: tuple[str, ...]
