"""Guards that every repair shares."""

from mending.disk.layout import Disk
from mending.disk.system import Contents
from mending.model import RefusedError, VolumeState
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
