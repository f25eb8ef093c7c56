"""The file of a healthy copy. Format: `docs/formats.md`.

A ZIP with `copy.json` (see `index`), `range-N.bin` for its range N and `file-N.bin` for its file N.
Every member has its sum in the index, and nothing is given out whose sum is another.
"""

import hashlib
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from mending.disk.healthy.index import HealthyIndex, KeptFile, KeptRange
from mending.model import InputError, decode_json, format_json
from mending.model.limits import LARGEST_CHANGE
from mending.source import Output
from mending.source.archive import ArchiveReader, new_archive

_INDEX, _INDEX_BYTES = "copy.json", 64 << 20


class HealthyCopy(msgspec.Struct, frozen=True):
    """An opened copy."""

    path: Path
    index: HealthyIndex
    archive: ArchiveReader

    def range_bytes(self, number: int) -> bytes:
        """The bytes of a range.

        Raises:
            InputError: the copy is damaged.
        """
        kept = self.index.ranges[number]
        return self._member(f"range-{number}.bin", kept.sha256, kept.length)

    def file_bytes(self, number: int) -> bytes:
        """The content of a file.

        Raises:
            InputError: the copy is damaged.
        """
        kept = self.index.files[number]
        return self._member(f"file-{number}.bin", kept.sha256, kept.bytes)

    def _member(self, name: str, digest: str, length: int) -> bytes:
        data = self.archive.read(name, min(length, LARGEST_CHANGE))
        if hashlib.sha256(data).hexdigest() != digest:
            raise InputError(f"{name} in {self.path} is not what was kept.", "Use another copy.")
        return data


def load_copy(path: Path) -> HealthyCopy:
    """Open a copy.

    Raises:
        InputError: it is none, or is damaged.
    """
    try:
        archive = ArchiveReader(path)
    except InputError as error:
        raise InputError(
            f"{path} is no healthy copy.", "Name the file that `mending keep` wrote."
        ) from error
    try:
        index = decode_json(archive.read(_INDEX, _INDEX_BYTES), HealthyIndex)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(f"{path} is no healthy copy: {error}.") from error
    return HealthyCopy(path, index, archive)


def save_copy(
    output: Output,
    index: HealthyIndex,
    ranges: Iterable[tuple[KeptRange, bytes]],
    files: Iterable[tuple[KeptFile, bytes | None]],
    left_out: Sequence[str],
) -> HealthyIndex:
    """Write a copy; its index comes last, for it lists what was put.

    Args:
        index: everything but ranges and files.
        files: None for one of which only the sum is kept.
        left_out: grows while the files are walked.

    Raises:
        InputError: it cannot be written. RefusedError: its name is taken.
    """
    with new_archive(output) as archive:
        kept_ranges = []
        for number, (kept, data) in enumerate(ranges):
            archive.put(f"range-{number}.bin", data)
            kept_ranges.append(kept)
        kept_files = []
        for number, (file, content) in enumerate(files):
            if content is not None:
                archive.put(f"file-{number}.bin", content)
            kept_files.append(file)
        whole = msgspec.structs.replace(
            index,
            ranges=tuple(kept_ranges),
            files=tuple(kept_files),
            left_out=tuple(left_out),
        )
        archive.put(_INDEX, format_json(whole))
    return whole
