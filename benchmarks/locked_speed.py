"""Reading through a lock: plain bytes a second, for each cipher of the nt family's real samples."""

import time

from tests.samples import read_samples

from mending.disk.layout import survey
from mending.disk.locked import unlock_fve
from mending.source import MemorySource

_KINDS = (
    "aes_128",
    "aes_256",
    "aes_128_diffuser",
    "aes_256_diffuser",
    "aes-xts_128",
    "aes-xts_256",
)
_PIECE, _BYTES, _WANTED = 4 << 20, 48 << 20, 80.0


def run() -> None:
    """Print megabytes a second."""
    told = []
    for name in _KINDS:
        data = next(data for _, data in read_samples("dissect.fve", f"_data/bde/{name}.bin.gz"))
        source = MemorySource(data)
        volume = unlock_fve(source, survey(source).volumes[0], b"password12!@")
        began = time.perf_counter()
        for at in range(0, _BYTES, _PIECE):
            volume.read(at, _PIECE)
        told.append((name, _BYTES / 1e6 / (time.perf_counter() - began)))
    slow = any(speed < _WANTED for _, speed in told)
    shown = ", ".join(f"{name} {speed:.0f}" for name, speed in told)
    print(f"through a lock, MB/s: {shown} (wanted {_WANTED:.0f}) {'missed' if slow else 'ok'}")
