"""What a file is, told by how it begins."""

from mending.disk.volume import ENCRYPTED
from mending.formats.evidence import dump, event_log
from mending.formats.filesystem import ntfs
from mending.formats.firmware import efi_variables
from mending.formats.nt import hive_base
from mending.formats.partition import gpt, mbr

HEAD_BYTES = 8192
"""How much of a file has to be seen."""


def content_kind_of(head: bytes) -> str:
    """`disk`, `variables`, `records` (dumps and binary logs of crashes), `hive` (settings of the nt
    family), `text` or `other`.

    Args:
        head: the first `HEAD_BYTES` of the file, or all of a shorter one.
    """
    if efi_variables.is_store(head[:100]):
        return "variables"
    if dump.is_dump(head) or event_log.is_log(head):
        return "records"
    if head[:4] == hive_base.MAGIC:
        return "hive"
    signed = head[510:512] == mbr.SIGNATURE.to_bytes(2, "little")
    named = head[3:11] in {ntfs.OEM, ENCRYPTED} or gpt.SIGNATURE in {head[512:520], head[4096:4104]}
    blank = len(head) == HEAD_BYTES and not any(
        head
    )  # a wiped disk starts like this; no other evidence does
    if signed or named or blank:
        return "disk"
    try:
        head[: max(len(head) - 3, 0)].decode("utf-8")  # the cut may go through a character
    except UnicodeDecodeError:
        return "other"
    return "text" if b"\0" not in head else "other"
