"""Whether a disk carries a GUID partition table. Source: UEFI Specification 2.10, section 5.3.2."""

from mending.model import Window

SIGNATURE = b"EFI PART"


def has_signature(window: Window) -> bool:
    """Whether the window starts with the signature of a GPT header."""
    return window.data[:8] == SIGNATURE
