"""What a container of the darwin family says of the volumes in it; their files are not read."""

from mending.formats.container import apfs
from mending.formats.container.apfs import ContainedVolume, Container
from mending.model import InputError, Window
from mending.source import Source

_COPY_BYTES = 4 * 1024 * 1024
"""Of copies of the superblock that are looked at; usual are some hundred of 4 KiB."""
_MOST_LEVELS = 8


def contained_volumes(source: Source, offset: int) -> tuple[ContainedVolume, ...]:
    """The volumes of a container by its newest superblock that is whole; what cannot be read is
    left out.
    """
    return _Container(source, offset).volumes()


class _Container:
    def __init__(self, source: Source, offset: int) -> None:
        self._source, self._offset, self._size = source, offset, apfs.LEAST_BLOCK

    def volumes(self) -> tuple[ContainedVolume, ...]:
        newest = self._newest()
        if newest is None:
            return ()
        root = apfs.map_root(self._block(newest.map))
        found = []
        for number in newest.volumes:
            block = self._look_up(root, number, newest.moment)
            volume = apfs.read_volume(self._block(block)) if block else None
            found += [volume] if volume is not None else []
        return tuple(found)

    def _newest(self) -> Container | None:
        """Block 0 keeps an old superblock; the newest is among the copies."""
        first = apfs.read_container(self._window(0, apfs.MOST_BLOCK))
        if first is None:
            return None
        self._size = first.block_bytes
        newest = first
        for number in range(min(first.copies, _COPY_BYTES // self._size)):
            later = apfs.read_container(self._block(first.first_of_copies + number))
            if later is not None and later.moment > newest.moment:
                newest = later
        return newest

    def _look_up(self, root: int, number: int, moment: int) -> int:
        """The block of an object at a moment: of its rows up to then the last one. 0: not found."""
        block = root
        for _ in range(_MOST_LEVELS):
            node = apfs.map_node(self._block(block)) if block else None
            if node is None:
                return 0
            before = [row for row in node.rows if row[:2] <= (number, moment)]
            if not before:
                return 0
            last = max(before)
            if node.is_leaf:
                return last[2] if last[0] == number else 0
            block = last[2]
        return 0

    def _block(self, number: int) -> Window:
        return self._window(number * self._size, self._size)

    def _window(self, at: int, length: int) -> Window:
        try:
            return self._source.read(self._offset + at, length)
        except InputError:
            return Window(b"", self._offset + at)
