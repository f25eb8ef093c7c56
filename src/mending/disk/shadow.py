"""Shadow copies of a volume, and the view that shows the volume as it was at the moment of one.

A block of a copy is where its own list says. Where that is silent it did not change before the
next copy was made, so that one is asked, and at last the volume as it is now. A list may put some
sectors over a block. What the copy was told not to keep, for it was free then and before, is zeros.
"""

from functools import cached_property
from typing import TYPE_CHECKING

from mending.formats import shadow_store
from mending.formats.shadow_store import BLOCK, HEAD, SECTOR, ShadowEntry
from mending.model import ReadError, load_numpy
from mending.source import Source

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Rows = npt.NDArray[np.void]

_MOST_COPIES, _MOST_CATALOGUE = 512, 256
_MOST_LIST = 4096
"""Blocks of 16 KiB that a catalogue, and a list or bitmap, may have: 64 MiB, two million rows."""
_SECTORS = BLOCK // SECTOR


class ShadowCopies:
    """All copies of a volume.

    Attributes:
        entries: the oldest first.
    """

    def __init__(self, source: Source, offset: int, size: int) -> None:
        self._source, self._offset, self._size = source, offset, size
        self.entries = self._entries()
        self._stores = [_Store(self, entry) for entry in self.entries]

    def volume(self, entry: ShadowEntry) -> "ShadowVolume":
        """The volume as it was."""
        return ShadowVolume(self, self.entries.index(entry))

    def _entries(self) -> tuple[ShadowEntry, ...]:
        try:
            head = self._source.read(
                self._offset + shadow_store.HEADER_AT, shadow_store.HEADER_BYTES
            )
        except ReadError:
            return ()
        place = shadow_store.read_header(head.data)
        blocks = self.chain(place, shadow_store.CATALOGUE, _MOST_CATALOGUE) if place else []
        return shadow_store.entries_of(blocks)[-_MOST_COPIES:]

    def chain(self, place: int, kind: int, most: int = _MOST_LIST) -> list[bytes]:
        """The blocks of a chain, up to the first that is damaged."""
        found, seen = list[bytes](), set[int]()
        while place and place not in seen and len(found) < most:
            seen.add(place)
            try:
                data = self.now(place, BLOCK)
            except ReadError:
                break
            following = shadow_store.next_block(data, kind)
            if following is None:
                break
            found.append(data)
            place = following
        return found

    def now(self, place: int, length: int) -> bytes:
        """Bytes of the volume as it is; fewer at its end. Raises ReadError."""
        length = min(length, self._size - place)
        return self._source.read(self._offset + place, length).data if length > 0 else b""

    def block(self, number: int, place: int, *, first: bool = False) -> bytes:
        """A block at the moment of a copy. Args: first: whether that copy is asked itself, and not
        in the place of an older one.

        Raises:
            ReadError
        """
        over = list[tuple[int, int]]()
        data: bytes | None = None
        while data is None and number < len(self._stores):
            store = self._stores[number]
            over += store.over(place)
            row = store.row(place)
            if row is None and first and store.was_free(place):
                data = bytes(BLOCK)
            elif row is not None and not row[3] & shadow_store.FORWARD:
                data = self.now(int(row[2]), BLOCK)
            elif row is not None:
                place = int(row[1])
            number, first = number + 1, False
        data = self.now(place, BLOCK) if data is None else data
        data = data.ljust(BLOCK, b"\0")
        for kept, sectors in reversed(over):
            data = self._laid_over(data, kept, sectors)
        return data

    def _laid_over(self, data: bytes, kept: int, sectors: int) -> bytes:
        new = self.now(kept, BLOCK).ljust(BLOCK, b"\0")
        return b"".join(
            (new if sectors >> each & 1 else data)[each * SECTOR : (each + 1) * SECTOR]
            for each in range(_SECTORS)
        )


class _Store:
    """What one copy keeps, read when it is asked for the first time."""

    def __init__(self, copies: ShadowCopies, entry: ShadowEntry) -> None:
        self._copies, self._entry = copies, entry

    @cached_property
    def _rows(self) -> "Rows":
        """The list, in order of the place in the volume; of several rows for one place the later
        ones last.
        """
        np = load_numpy()
        blocks = self._copies.chain(self._entry.blocks, shadow_store.BLOCK_LIST)
        usable = (BLOCK - HEAD) // shadow_store.ROW_BYTES * shadow_store.ROW_BYTES
        joined = b"".join(block[HEAD : HEAD + usable] for block in blocks)
        rows = np.frombuffer(joined, shadow_store.ROW)
        rows = rows[(rows["f3"] & shadow_store.UNUSED == 0) & ((rows["f0"] | rows["f2"]) != 0)]
        ordered: Rows = rows[np.argsort(rows["f0"], kind="stable")]
        return ordered

    @cached_property
    def _free(self) -> tuple[bytes, bytes]:
        """Bits of blocks that are not kept: now, and of the copy before."""
        chains = (
            self._copies.chain(place, shadow_store.BITMAP)
            for place in (self._entry.bitmap, self._entry.earlier_bitmap)
        )
        now, before = (b"".join(block[HEAD:] for block in chain) for chain in chains)
        return now, before

    def _of(self, place: int) -> "Rows":
        np = load_numpy()
        places = self._rows["f0"]
        first = int(np.searchsorted(places, place, "left"))
        found: Rows = self._rows[first : int(np.searchsorted(places, place, "right"))]
        return found

    def row(self, place: int) -> tuple[int, int, int, int, int] | None:
        """The row that tells where a block is; None where the list is silent."""
        rows = [row for row in self._of(place).tolist() if not row[3] & shadow_store.OVER]
        return rows[-1] if rows else None

    def over(self, place: int) -> list[tuple[int, int]]:
        """What lies over a block: places, and bits of the sectors; the first wins."""
        rows = [row for row in self._of(place).tolist() if row[3] & shadow_store.OVER]
        return [(row[2], row[4]) for row in reversed(rows)]

    def was_free(self, place: int) -> bool:
        """Whether a block was free at the moment of this copy and of the one before."""
        byte, bit = divmod(place // BLOCK, 8)
        return all(byte < len(bits) and bits[byte] >> bit & 1 for bits in self._free)


class ShadowVolume:
    """A volume as it was at the moment of a copy.

    Attributes:
        bytes: how many there are.
    """

    def __init__(self, copies: ShadowCopies, number: int) -> None:
        self._copies, self._number = copies, number
        self.bytes = copies.entries[number].size
        self._held: tuple[int, bytes] = (-1, b"")

    def read(self, offset: int, length: int) -> bytes:
        """Bytes; fewer at the end.

        Raises:
            ReadError
        """
        end = min(offset + length, self.bytes)
        if offset < 0 or offset >= end:
            return b""
        first = offset // BLOCK * BLOCK
        data = b"".join(self._block(at) for at in range(first, end, BLOCK))
        return data[offset - first : end - first]

    def _block(self, place: int) -> bytes:
        if self._held[0] != place:
            self._held = place, self._copies.block(self._number, place, first=True)
        return self._held[1]


def shadow_copies(source: Source, offset: int, size: int) -> ShadowCopies:
    """The copies of a volume; damage makes them fewer, and is not raised.

    Args:
        offset, size: of the volume, in bytes.
    """
    return ShadowCopies(source, offset, size)
