"""The document of a rehearsal, as `docs/json.md` describes it."""

import msgspec

MEANINGS = {
    "halts": "it came to rest by itself",
    "waits-for-key": "it waits for a key",
    "gives-up": "it hands back to firmware",
    "restarts": "it restarts the PC",
    "leaves-16-bit": "it goes on to 32-bit code, which is as far as a rehearsal follows",
    "fault": "the processor cannot go on",
    "too-long": "it goes round in circles",
}
"""By how the code came to rest: what that means."""


class ReadResult(msgspec.Struct, frozen=True, kw_only=True):
    """One read that the boot code asked firmware for. `to` is the linear address in memory."""

    lba: int
    sectors: int
    to: int
    by: str


class RehearsalResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="rehearsal/1"
):
    """How far the code of sector 0 got.

    Attributes:
        stopped: `halts waits-for-key gives-up restarts leaves-16-bit fault too-long`.
        at: linear address of the instruction it stopped at.
        screen: what it printed, line by line.
        started_volume: whether it handed over to a boot sector that it read to 7c00h.
    """

    path: str
    stopped: str
    at: int
    instructions: int
    screen: tuple[str, ...]
    reads: tuple[ReadResult, ...]
    started_volume: bool
