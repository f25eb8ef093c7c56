"""Which sector size an image was made with. A device says it; an image has to be asked."""

from mending.formats.filesystem import fat, ntfs
from mending.formats.partition import gpt, mbr
from mending.model import Lba, ReadError
from mending.source import Source, TargetKind

_SIZES = (512, 4096)


def settle_sector_size(source: Source, given: int | None = None) -> int:
    """The sector size in bytes, by what the tables and boot sectors on the disk agree with; 512
    when nothing speaks.

    Args:
        given: a size the person insists on; then nothing is looked at.
    """
    if given is not None:
        return given
    if source.kind is TargetKind.DEVICE:
        return source.bytes_per_sector
    try:
        return next((size for size in _SIZES if _fits(source, size)), _SIZES[0])
    except ReadError:
        return _SIZES[0]


def _fits(source: Source, size: int) -> bool:
    if any(_header(source, at, size) for at in (size, source.size - size)):
        return True
    sector = source.read(0, mbr.SIZE)
    if len(sector) < mbr.SIZE:
        return False
    return any(
        _names_size(source, entry.first_lba * size, size)
        for entry in mbr.read(sector).record.entries
    )


def _header(source: Source, offset: int, size: int) -> bool:
    """Whether a sound GPT header lies at `offset` for sectors of `size` bytes."""
    window = source.read(offset, size)
    if len(window) < size or offset % size or not gpt.has_signature(window):
        return False
    return not gpt.read_header(window, Lba(offset // size)).has("my-lba")


def _names_size(source: Source, offset: int, size: int) -> bool:
    """Whether a boot sector at `offset` says that its sectors are `size` bytes long."""
    window = source.read(offset, fat.SIZE)
    if not (fat.looks_like(window) or ntfs.looks_like(window)):
        return False
    return fat.COMMON.read(window).bytes_per_sector == size
