"""Reading a copy again, to see whether it still holds what the drive gave."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from mending.model import InputError
from mending.source.imaging import GrowingImage, load_record, open_image, record_path


class LostPiece(msgspec.Struct, frozen=True, kw_only=True):
    """Bytes of an image that are not those that the drive gave."""

    offset: int
    bytes: int


class CopyCheckResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="copy-check/1"
):
    """What reading an image again told. `checked`: bytes that have a sum; `without_sum`: safe ones
    that have none, since they are known to be zeros without having been read.
    """

    drive: str
    image: str
    record: str
    bytes: int
    checked: int
    without_sum: int
    unread: int
    lost: tuple[LostPiece, ...]


def check_copy(image: str, told: Callable[[int, int], None]) -> CopyCheckResult:
    """Read an image again and compare it with its reading record. Nothing is changed.

    Args:
        told: is given how many bytes are checked, of how many.

    Raises:
        InputError: there is no such image, it has no record, or that cannot be used.
        RefusedError: a copy into it is under way.
    """
    record = load_record(image) if Path(image).is_file() else None
    if record is None:
        raise InputError(
            f"{image} is no image of `mending copy`: it has no reading record.",
            f"The record lies beside its image, here {record_path(image).name}.",
        )
    growing = open_image(image, record.header)
    try:
        return _checked(growing, told)
    finally:
        growing.close()


def _checked(growing: GrowingImage, told: Callable[[int, int], None]) -> CopyCheckResult:
    record, checked, lost = growing.record, 0, list[LostPiece]()
    summed = sum(end - start for start, end, _ in record.sums)
    without_sum = record.safe.total - summed
    for start, end, differs in growing.differing():
        checked += end - start
        told(checked, summed)
        if differs:
            lost.append(LostPiece(offset=start, bytes=end - start))
    return CopyCheckResult(
        drive=record.header.drive,
        image=growing.path,
        record=str(record_path(growing.path)),
        bytes=record.header.bytes,
        checked=checked,
        without_sum=without_sum,
        unread=record.header.bytes - record.safe.total,
        lost=tuple(lost),
    )
