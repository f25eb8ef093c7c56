"""The search against `cat IMAGE > /dev/null` on the same cached 4 GiB image, and on a sparse 1 TiB
one.
"""

import os
import subprocess
import tempfile
import time
from pathlib import Path

from mending.disk.scan import search
from mending.source import open_source
from mending.workshop import uefi_disk

SIZE = 4 << 30
WANTED = 0.7
_RUNS = 5


def run() -> None:
    """Print the share of cat's speed, and the seconds for the sparse disk."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "full.img"
        piece = os.urandom(32 << 20)
        with path.open("wb") as file:
            for _ in range(SIZE // len(piece)):
                file.write(piece)
        shares = sorted(_cat(path) / _search(path) for _ in range(_RUNS))
        share = shares[_RUNS // 2]
        verdict = "ok" if share >= WANTED else "too slow"
        spread = f"{shares[0]:.2f} to {shares[-1]:.2f}"
        print(
            f"search of 4 GiB: {share:.2f} of the speed of cat ({spread}, wanted {WANTED})"
            f" {verdict}"
        )
        sparse = Path(folder) / "sparse.img"
        uefi_disk().save(sparse)
        os.truncate(sparse, 1 << 40)
        print(f"search of a sparse 1 TiB disk: {_search(sparse):.2f} s (wanted: under 10)")


def _search(path: Path) -> float:
    before = time.perf_counter()
    with open_source(str(path)) as source:
        search(source)
    return time.perf_counter() - before


def _cat(path: Path) -> float:
    before = time.perf_counter()
    with Path(os.devnull).open("wb") as nothing:
        subprocess.run(["cat", path], stdout=nothing, check=True)
    return time.perf_counter() - before
