"""What a file is, told by how it begins."""

from mending.formats.encryption import fve
from mending.formats.evidence import binary_journal, dump, event_log, older_event_log, wtmp
from mending.formats.filesystem import ext, ntfs, signatures
from mending.formats.firmware import efi_variables
from mending.formats.nt import hive_base
from mending.formats.partition import gpt, mbr
from mending.model import Window

HEAD_BYTES = 68 << 10
"""How much of a file has to be seen."""
_RECORDS = (
    dump.is_dump,
    event_log.is_log,
    older_event_log.is_older_log,
    binary_journal.is_journal,
    wtmp.is_wtmp,
)


def content_kind_of(head: bytes) -> str:
    """`disk`, `variables`, `records` (dumps and binary logs of crashes), `hive` (settings of the nt
    family), `text` or `other`.

    Args:
        head: the first `HEAD_BYTES` of the file, or all of a shorter one.
    """
    if efi_variables.is_store(head[:100]):
        return "variables"
    if any(is_kind(head) for is_kind in _RECORDS):
        return "records"
    if head[:4] == hive_base.MAGIC:
        return "hive"
    signed = head[510:512] == mbr.SIGNATURE.to_bytes(2, "little")
    listed = gpt.SIGNATURE in {head[512:520], head[4096:4104]}
    named = head[3:11] in {ntfs.OEM, fve.SIGNATURE}
    # a wiped disk starts like this; no other evidence does
    blank = len(head) == HEAD_BYTES and not any(head)
    window = Window(head)
    one_volume = ext.looks_like(window) or signatures.recognise(window) is not None
    if signed or listed or named or blank or one_volume:
        return "disk"
    try:
        head[: max(len(head) - 3, 0)].decode("utf-8")  # the cut may go through a character
    except UnicodeDecodeError:
        return "other"
    return "text" if b"\0" not in head else "other"
