"""A fuzzer that is guided by the lines it reaches, over every reader of `formats/`: `make guided`.

Readers are found by themselves (`tests/readers.py`). One that takes nothing but evidence is given
the bytes of the fuzzer; for the others the call is drawn from them. It begins with pieces of sample
disks and files that a reader takes for what it reads; what reaches new lines is kept in
`build/corpus`. At the end all is replayed and the share of each module's lines that it reaches is
printed. A reader that raises anything that is not ours ends it with exit status 1.
"""

import inspect
import io
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO, get_type_hints

import atheris
from coverage import Coverage
from hypothesis import HealthCheck, Phase, given, settings

PROJECT = Path(__file__).parents[1]
FOUND = PROJECT / "build/corpus"
PIECE, MOST_SEEDS = 16_000, 6
"""Bytes of a seed, and how many each reader gets."""
AIM = 85
SECONDS = 60


def main() -> None:
    """Fuzz for so many seconds as the first argument says, then replay."""
    seconds = int(sys.argv[1]) if len(sys.argv) > 1 else SECONDS
    FOUND.mkdir(parents=True, exist_ok=True)
    command = [sys.executable, "-m", "benchmarks.guided"]
    subprocess.run([*command, "--seeds"], check=True)
    fuzzed = subprocess.run(
        [
            *(*command, "--fuzz", f"-max_total_time={seconds}", "-rss_limit_mb=2000"),
            *("-timeout=10", "-max_len=16384", "-verbosity=0", "-print_final_stats=1", str(FOUND)),
        ],
        capture_output=True,
        text=True,
        check=False,
    )
    for row in (fuzzed.stdout + fuzzed.stderr).splitlines():
        if row.startswith("stat::number_of_executed_units"):
            print(f"guided: {row.split()[-1]} inputs in {seconds} s")
    if fuzzed.returncode:
        print(fuzzed.stdout + fuzzed.stderr)
    replayed = subprocess.run([*command, "--replay"], check=False)
    sys.exit(bool(fuzzed.returncode or replayed.returncode))


def _attempts() -> list[Callable[[bytes], object]]:
    """For every reader a function that makes a call of it out of bytes."""
    with atheris.instrument_imports(include=["mending.formats"]):
        from tests.readers import readers_of  # noqa: PLC0415

        import mending.formats  # noqa: PLC0415 - instrumented while it is imported

        found = list(readers_of(mending.formats))
    return [_attempt(module, function) for module, function in found]


def _attempt(module: object, function: Callable[..., object]) -> Callable[[bytes], object]:
    given_bytes = _direct(function)
    return given_bytes if given_bytes is not None else _drawn(module, function)


def _direct(function: Callable[..., object]) -> Callable[[bytes], object] | None:
    """For a reader that takes nothing but evidence: the call with these bytes."""
    from tests.readers import drained  # noqa: PLC0415 - behind the instrumentation

    from mending.model import MendingError, Window  # noqa: PLC0415

    hints = get_type_hints(function)
    first, *others = inspect.signature(function).parameters.values()
    if any(each.default is inspect.Parameter.empty for each in others):
        return None
    made: dict[object, Callable[[bytes], object]] = {
        bytes: bytes,
        Window: Window,
        str: lambda data: data.decode("utf-8", "replace"),
        BinaryIO: io.BytesIO,
    }
    make = made.get(hints[first.name])
    if make is None:
        return None

    def call(data: bytes) -> object:
        try:
            return drained(function(make(data)))
        except MendingError:
            return None

    return call


def _drawn(module: object, function: Callable[..., object]) -> Callable[[bytes], object]:
    from tests.readers import calls_of, drained  # noqa: PLC0415 - behind the instrumentation

    from mending.model import MendingError  # noqa: PLC0415

    @given(calls_of(module, function))
    @settings(
        database=None,
        deadline=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    def attempt(arguments: dict[str, object]) -> None:
        try:
            drained(function(**arguments))
        except MendingError:
            return

    call: Callable[[bytes], object] = attempt.hypothesis.fuzz_one_input
    return call


def _chosen(attempts: list[Callable[[bytes], object]], data: bytes) -> None:
    """The first byte says which reader, the rest what it is called with."""
    if data:
        attempts[data[0] % len(attempts)](data[1:])


def _seeds() -> None:
    """Pieces of samples, for every reader that finds nothing wrong with them."""
    from tests.readers import readers_of  # noqa: PLC0415

    import mending.formats  # noqa: PLC0415 - elsewhere it is instrumented while it is imported

    pieces = _pieces()
    for number, (_, function) in enumerate(readers_of(mending.formats)):
        call, kept = _direct(function), 0
        for piece in pieces:
            record = call(piece) if call is not None and kept < MOST_SEEDS else None
            if record and not getattr(record, "problems", None):
                seed = bytes([number]) + piece
                (FOUND / f"seed-{number}-{kept}").write_bytes(seed)
                kept += 1


def _pieces() -> list[bytes]:
    from benchmarks.fuzz_files import samples  # noqa: PLC0415 - behind the instrumentation
    from mending.repair.boot import own_code  # noqa: PLC0415
    from mending.workshop import bios_disk, linux_disk, uefi_disk  # noqa: PLC0415

    found = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        found += [sample.sound[:PIECE] for sample in samples(folder / "files")]
        found += [row for piece in found for row in piece.splitlines()[:4]]
        for draft in (bios_disk(own_code()), uefi_disk(), linux_disk()):
            draft.save(folder / "disk")
            data = (folder / "disk").read_bytes()
            starts = (*range(0, 4096, 512), *(n << 20 for n in range(100)))
            found += [data[at : at + 4096] for at in starts]
            found += [data[at + 1024 : at + 5120] for at in starts]
    return [piece for piece in dict.fromkeys(found) if piece.strip(b"\0")]


def _fuzz() -> None:
    attempts = _attempts()
    atheris.Setup([sys.argv[0], *sys.argv[2:]], lambda data: _chosen(attempts, data))
    atheris.Fuzz()


def _replay() -> None:
    """The share of each module's lines that the corpus reaches."""
    coverage = Coverage(source=["mending.formats"], data_file=None)
    coverage.start()
    attempts = _attempts()
    for path in sorted(FOUND.iterdir()):
        _chosen(attempts, path.read_bytes())
    coverage.stop()
    shares = []
    for file in sorted(coverage.get_data().measured_files()):
        _, lines, _, missing, _ = coverage.analysis2(file)
        if len(lines) > 5:
            name = file.partition("/formats/")[2]
            shares.append((100 * (len(lines) - len(missing)) // len(lines), name))
    low = [f"{name} {share} %" for share, name in sorted(shares) if share < AIM]
    enough = len(shares) - len(low)
    print(f"guided: {enough} of {len(shares)} modules at {AIM} % or more; below: {', '.join(low)}")


if __name__ == "__main__":
    os.environ.setdefault("PYTHONHASHSEED", "0")
    modes = {"--fuzz": _fuzz, "--replay": _replay, "--seeds": _seeds}
    modes.get(sys.argv[1] if len(sys.argv) > 1 else "", main)()
