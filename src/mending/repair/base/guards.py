"""Guards that every repair shares."""

from collections.abc import Iterable

from mending.disk.layout import Disk
from mending.disk.system import Contents
from mending.model import Change, Patch, RefusedError, VolumeState
from mending.repair.base.proposal import MendSettings


def check_common(disk: Disk, settings: MendSettings) -> None:
    """Raise RefusedError where the boot chain of an encrypted system would change and no key is at
    hand.
    """
    encrypted = [volume.number for volume in disk.volumes if volume.encrypted]
    if encrypted and not settings.key_at_hand:
        raise RefusedError(
            f"Volume {encrypted[0]} is encrypted, and a changed boot chain makes it ask for its"
            " recovery key.",
            "Have the key at hand, then add --key-at-hand.",
            "--key-at-hand",
        )


def check_mirrors(disk: Disk, changes: Iterable[Change]) -> None:
    """Raise RefusedError where one member of a mirror would change and the others not."""
    for change in changes:
        if not isinstance(change, Patch):
            continue
        for volume in disk.volumes:
            before = change.offset + change.length <= volume.offset
            behind = change.offset >= volume.offset + volume.bytes
            if volume.array and not (before or behind):
                raise RefusedError(
                    f"Volume {volume.number} is one copy of a mirror; written alone, it would"
                    " differ from the other without anything noticing.",
                    "Start the array on a sound PC, and mend the array itself.",
                )


def check_awake(inside: Contents) -> None:
    """Raise RefusedError where a sleeping system owns the volume.

    A volume that cannot be read is let pass: nothing can be told about it, and it is mended so that
    it can be.
    """
    if inside.info.state is VolumeState.HIBERNATED:
        raise RefusedError(
            f"Volume {inside.volume.number} holds a hibernated system, or one shut down in hybrid"
            " mode.",
            "Start it once and shut it down fully, or give up what it had open.",
        )
