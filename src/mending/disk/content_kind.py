"""What a file is, told by how it begins."""

from mending.formats import (
    dumps,
    event_log,
    ext,
    firmware,
    fve,
    gpt,
    histories,
    hives,
    journal,
    mbr,
    ntfs,
    volume_heads,
)
from mending.model import Window

HEAD_BYTES = 68 << 10
"""How much of a file has to be seen."""
_RECORDS = (
    dumps.is_dump,
    event_log.is_log,
    event_log.is_older_log,
    journal.is_journal,
    histories.is_wtmp,
)


def content_kind_of(head: bytes) -> str:
    """`disk`, `variables`, `records` (dumps and binary logs of crashes), `hive` (settings of the nt
    family), `text` or `other`.

    Args:
        head: the first `HEAD_BYTES` of the file, or all of a shorter one.
    """
    if firmware.is_store(head[:100]):
        return "variables"
    if any(is_kind(head) for is_kind in _RECORDS):
        return "records"
    if head[:4] == hives.MAGIC:
        return "hive"
    signed = head[510:512] == mbr.SIGNATURE.to_bytes(2, "little")
    listed = gpt.SIGNATURE in {head[512:520], head[4096:4104]}
    named = head[3:11] in {ntfs.OEM, fve.SIGNATURE}
    # a wiped disk starts like this; no other evidence does
    blank = len(head) == HEAD_BYTES and not any(head)
    window = Window(head)
    one_volume = ext.looks_like(window) or volume_heads.recognise(window) is not None
    if signed or listed or named or blank or one_volume:
        return "disk"
    try:
        head[: max(len(head) - 3, 0)].decode("utf-8")  # the cut may go through a character
    except UnicodeDecodeError:
        return "other"
    return "text" if b"\0" not in head else "other"
