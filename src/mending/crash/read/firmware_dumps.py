"""Last words of a Linux kernel that firmware kept for it: variables of a certain name, each with a
part of the text, perhaps packed.

Source: Linux 6.1, `drivers/firmware/efi/efi-pstore.c` (names: `dump-type`, type, part, count, time
in Unix seconds, `C` for packed or `D`), `fs/pstore/platform.c` (the newest part has the number 1;
packed is a bare DEFLATE stream).
"""

import re
import zlib
from collections.abc import Iterable, Iterator

from mending.formats.firmware.efi_variables import Variable

_NAME = re.compile(r"dump-type\d+-(\d+)-(\d+)-(\d+)(?:-([CD]))?")
_MOST_TEXT = 1 << 20


def dumps_in(variables: Iterable[Variable]) -> Iterator[tuple[float, bytes]]:
    """When a kernel said its last words, in Unix seconds, and all of them in order; the oldest
    first.
    """
    parts: dict[tuple[int, int], list[tuple[int, bytes]]] = {}
    for variable in variables:
        match = _NAME.fullmatch(variable.name)
        if match is not None:
            part, count, time = (int(group) for group in match.groups()[:3])
            text = _unpacked(variable.data) if match.group(4) == "C" else variable.data
            parts.setdefault((time, count), []).append((part, text))
    for (time, _), found in sorted(parts.items()):
        yield float(time), b"\n".join(text for _, text in sorted(found, reverse=True))


def _unpacked(data: bytes) -> bytes:
    """A part without its packing; what comes before damage, or nothing."""
    for bits in (-zlib.MAX_WBITS, zlib.MAX_WBITS):
        engine = zlib.decompressobj(bits)
        try:
            return engine.decompress(data, _MOST_TEXT)
        except zlib.error:
            continue
    return b""
