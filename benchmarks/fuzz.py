"""20,000 mutations of everything that a command can read: `make fuzz`.

Half are of whole disks made by real programs, where a trace reads them; such a mutation is laid
over the disk, so that nothing is copied. Half are of files: `fuzz_files`. Reported are exceptions
that are not ours, the longest time of one reading and the most memory; any exception, one over two
seconds or more than 300 MB end in exit status 1.
"""

import contextlib
import multiprocessing
import os
import random
import resource
import subprocess
import sys
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any, cast

from tests.faults import volume_cases
from tests.support import GRUB_FILES, InFolder
from tests.volumes import make_volume

from benchmarks.fuzz_files import Sample, mutated, samples
from mending.boot.trace import trace_target
from mending.disk.scan import search
from mending.model import MendingError, Patch, RepairId, Window
from mending.repair.base import MendSettings
from mending.repair.boot import own_code
from mending.repair.run import examine, preview
from mending.source import DiskOverlay, Source, open_source
from mending.workshop import bios_disk, linux_disk, uefi_disk
from mending.workshop.nt import nt_bios_disk

COUNT = 20_000
SECONDS, MEGABYTES = 2.0, 300
_SMALL = ("fat12", "exfat", "ntfs", "ext2", "ext4", "luks2", "swap", "iso9660")
_SEARCH_EVERY, _MEND_EVERY, _PROGRAM_EVERY = 40, 25, 2
"""One of so many files is also read by the program itself."""
_VALUES = (0, 1, 0x7F, 0x80, 0xFE, 0xFF)


class Watched:
    """A source that remembers where it was read."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self.seen: set[tuple[int, int]] = set()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._source, name)

    def read(self, offset: int, length: int) -> Window:
        """Read, and remember where."""
        if length:
            self.seen.add((offset, length))
        return self._source.read(offset, length)


def main() -> None:
    """Run the mutations, as many as the first argument says, in two processes, and print what came
    out.
    """
    started, workers = time.monotonic(), 2
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        parts = list(pool.map(_run, range(1, workers + 1), [count // workers] * workers))
    failures = [one for part in parts for one in part[0]]
    slowest, memory = max(part[1] for part in parts), max(part[2] for part in parts)
    verdicts = sum((part[3] for part in parts), Counter())
    print(
        f"fuzz: {count} mutations in {time.monotonic() - started:.0f} s; {len(failures)} failures"
    )
    print(
        f"slowest {slowest:.2f} s (limit {SECONDS:g}), most memory {memory:.0f} MB (limit"
        f" {MEGABYTES})"
    )
    print("verdicts:", ", ".join(f"{name} {count}" for name, count in verdicts.most_common()))
    for failure in failures[:8]:
        print(failure)
    sys.exit(bool(failures) or slowest > SECONDS or memory > MEGABYTES)


def _run(seed: int, count: int) -> tuple[list[str], float, float, "Counter[str]"]:
    """Failures (where too much memory was needed, the rest is not tried), longest seconds, most MB,
    verdicts.
    """
    draw, slowest = random.Random(seed), 0.0
    failures: list[str] = []
    verdicts: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        disks = [_opened(path) for path in _disks(folder)]
        files = samples(Path(folder) / "files")
        for number in range(count):
            source, places = draw.choice(disks)
            sample = draw.choice(files)
            patched = DiskOverlay(source, _mutation(draw, source, places))
            of_file = number % 2 == 1
            if of_file:
                sample.path.write_bytes(mutated(draw, sample.sound))
            before = _processor_time()
            try:
                if of_file:
                    sample.read()
                    verdicts["file read"] += 1
                    if sample.words and number // 2 % _PROGRAM_EVERY == 0:
                        failures += _by_program(sample)
                        verdicts["by the program"] += 1
                else:
                    verdicts[_try(patched, number // 2)] += 1
            except MendingError as error:
                verdicts[type(error).__name__] += 1
            except Exception:  # whatever it is, it is what is looked for
                last = " | ".join(row.strip() for row in traceback.format_exc().splitlines()[-7:])
                what = sample.name if of_file else source.path
                failures.append(f"seed {seed}, mutation {number} of {what}: {last}")
            took = _processor_time() - before
            if took > SECONDS:  # a first use of a module takes its time: it counts if slow twice
                again = sample.read if of_file else partial(trace_target, patched)
                took = min(took, _seconds(again))
            if of_file:
                sample.path.write_bytes(sample.sound)
            slowest = max(slowest, took)
            if took > SECONDS or _memory() > MEGABYTES:
                what = sample.name if of_file else source.path
                failures.append(
                    f"seed {seed}, mutation {number} of {what}: {took:.2f} s, {_memory():.0f} MB"
                )
            if _memory() > MEGABYTES:
                break
        return failures, slowest, _memory(), verdicts


def _by_program(sample: Sample) -> list[str]:
    """What the program itself says of a file: a traceback, or a status of its own."""
    call = [sys.executable, "-m", "mending", *sample.words]
    done = subprocess.run(call, capture_output=True, text=True, check=False, timeout=120)
    if "Traceback" in done.stderr or done.returncode not in {0, 2, 3, 4}:
        return [f"{' '.join(sample.words)}: exit {done.returncode}: {done.stderr[-600:]}"]
    return []


def _seconds(call: Callable[[], object]) -> float:
    before = _processor_time()
    with contextlib.suppress(Exception):
        call()
    return _processor_time() - before


def _processor_time() -> float:
    """Seconds that this process and its children had a processor: what else the machine does is
    left out.
    """
    spent = os.times()
    return spent.user + spent.system + spent.children_user + spent.children_system


def _try(source: Source, number: int) -> str:
    verdict = trace_target(source).verdict
    if number % _SEARCH_EVERY == 0 and source.size < 64 << 20:
        search(source)
    if number % _MEND_EVERY == 0 and source.size < 128 << 20:
        repair = list(RepairId)[number // _MEND_EVERY % len(RepairId)]
        settings = MendSettings(anyway=True, key_at_hand=True)
        preview(repair, examine(source, settings), settings)
    return str(verdict)


def _mutation(draw: random.Random, source: Source, places: list[tuple[int, int]]) -> list[Patch]:
    """Some bytes changed, or a sector lost, where the trace of the sound disk read; they do not
    overlap.
    """
    taken: dict[int, int] = {}
    for _ in range(draw.choice((1, 1, 2, 4, 16, 60))):
        offset, length = draw.choice(places)
        at = (
            offset + draw.randrange(min(length, 8192))
            if draw.random() < 0.8
            else offset + draw.randrange(length)
        )
        run = 512 if draw.random() < 0.05 else draw.choice((1, 1, 2, 4, 8))
        for number in range(at, min(at + run, source.size)):
            taken[number] = draw.choice(_VALUES) if draw.random() < 0.5 else draw.randrange(256)
    return [
        Patch(at, source.read(at, 1).data, bytes([value]), "mutation")
        for at, value in sorted(taken.items())
    ]


def _disks(folder: str) -> list[Path]:
    """Sound disks of many kinds."""
    paths = []
    for name, draft in (
        ("bios", bios_disk(own_code())),
        ("uefi", uefi_disk()),
        ("linux", linux_disk()),
        ("nt", nt_bios_disk(own_code())),
    ):
        paths.append(Path(folder) / name)
        draft.save(paths[-1])
    helper = InFolder()
    helper.folder = Path(folder)
    logical = ("x1 : start=2048,size=20000,type=83", "x2 : start=24576,size=90000,type=5")
    paths.append(helper.partitioned("logical", *logical, "x5 : start=26624,size=30000,type=c"))
    paths += [helper.ext_started_by_grub()] if GRUB_FILES.exists() else []
    paths += [make_volume(folder, kind) for kind in _SMALL]
    return [*paths, next(iter(volume_cases(folder)))[1]]


def _opened(path: Path) -> tuple[Source, list[tuple[int, int]]]:
    """A disk, and the places that its trace reads."""
    source = open_source(str(path))
    watched = Watched(source)
    trace_target(cast(Source, watched))
    return source, sorted(watched.seen)


def _memory() -> float:
    """MB that this process needed at most; its children only make samples."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


if __name__ == "__main__":
    main()
