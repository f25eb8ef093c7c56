"""Guards that every repair shares."""

from mending.disk import Disk
from mending.model import RefusedError
from mending.repair.proposal import Leave


def check_common(disk: Disk, leave: Leave) -> None:
    """Raise RefusedError where the boot chain of an encrypted system would change and no key is at hand."""
    encrypted = [volume.number for volume in disk.volumes if volume.encrypted]
    if encrypted and not leave.key_at_hand:
        raise RefusedError(
            f"Volume {encrypted[0]} is encrypted, and a changed boot chain makes it ask for its recovery key.",
            "Have the key at hand, then add --key-at-hand.",
        )
