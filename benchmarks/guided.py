"""A fuzzer that is guided by the lines it reaches, over every reader of `formats/` and over what
commands do with a file: `make guided`.

Readers are found by themselves (`tests/readers.py`); an input is a key that names the reader, then
a call of it (`benchmarks/guided_calls.py`). The files of `benchmarks/fuzz_files.py` join them
(logs, dumps, cases, undo points, packs, variables, packages, trees), each as a whole. It begins
with the inputs kept in `corpus.zip`, which `make corpus` makes out of pieces of sample disks and
files and of what the fuzzer found: the smallest set that reaches the same lines. At the end all is
replayed and the share of the lines of each module's readers that it reaches is printed. What raises
anything that is not ours ends it with exit status 1.
"""

import ast
import atexit
import gzip
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from random import Random
from types import FrameType, ModuleType
from typing import TypeGuard

import atheris
from coverage import Coverage

with atheris.instrument_imports(include=["mending"]):
    from tests.readers import PLACES, magic_of, readers_of

    import mending.formats
    from benchmarks.guided_calls import attempt
    from mending.model import MendingError

PROJECT = Path(__file__).parents[1]
FOUND, KEPT, REAL = (PROJECT / "build/corpus" / name for name in ("found", "kept", "real"))
"""What the fuzzer found, what the repository keeps, and real things, which are not kept in it."""
CORPUS = Path(__file__).with_name("corpus.zip")
PIECE, KEY, MOST = 4096, 3, 6
"""Bytes of a seed behind its head, of the name of a reader before it; pieces of one kind."""
MOST_OF_FILE, LEAST_TEXT, MOST_TRACED = 1 << 18, 24, 400
"""Bytes of a file, of the shortest text, and seeds of one reader whose lines are looked at."""
MAKERS = (
    (48, ("mkfs.ext4", "-q", "-F")),
    (48, ("mkfs.ext2", "-q", "-F", "-b", "1024")),
    (48, ("mkfs.fat", "-F", "16")),
    (48, ("mkfs.fat", "-F", "32", "-s", "1")),
    (48, ("mkfs.exfat", "-q")),
    (48, ("mkfs.ntfs", "-q", "-F")),
    (120, ("mkfs.btrfs", "-q")),
    (320, ("mkfs.xfs", "-q")),
    (48, ("cryptsetup", "-q", "luksFormat", "--type", "luks1", "--pbkdf-force-iterations", "1000")),
    (48, ("cryptsetup", "-q", "luksFormat", "--type", "luks2", "--pbkdf", "pbkdf2")),
)
"""MiB of a volume, and the real program that makes it."""
PASSWORD = b"quayside"
PLAIN = b"\0" * 16
"""The head of the plainest call."""
LARGEST, MOST_REAL = 72_000, 2
"""Bytes of a real thing (a log of events has one chunk), and how many each reader gets."""
EPOCH = (2000, 1, 1, 0, 0, 0)
AIM = 85
SECONDS = 60
COMMAND = [sys.executable, "-m", "benchmarks.guided"]
Reader = tuple[ModuleType, Callable[[bytes], object]]
"""The module of a reader and a function that calls it."""
Arc = tuple[str, int, int]
"""A file, a line and the line behind it."""
LEAST_LINES = 6
"""Modules with fewer lines in their readers are not worth a share."""


def main() -> None:
    """Fuzz for so many seconds as the first argument says, then replay."""
    seconds = int(sys.argv[1]) if len(sys.argv) > 1 else SECONDS
    _unpack()
    subprocess.run([*COMMAND, "--real"], check=True)
    fuzzed = _fuzzer(
        f"-max_total_time={seconds}", "-print_final_stats=1", str(FOUND), str(KEPT), str(REAL)
    )
    for row in (fuzzed.stdout + fuzzed.stderr).splitlines():
        if row.startswith("stat::number_of_executed_units"):
            print(f"guided: {row.split()[-1]} inputs in {seconds} s")
    if fuzzed.returncode:
        print(fuzzed.stdout + fuzzed.stderr)
    replayed = subprocess.run([*COMMAND, "--replay"], check=False)
    sys.exit(bool(fuzzed.returncode or replayed.returncode))


def _fuzzer(*options: str) -> subprocess.CompletedProcess[str]:
    limits = ("-rss_limit_mb=2000", "-timeout=10", "-max_len=73728", "-verbosity=0")
    where = f"-artifact_prefix={FOUND.parent}/"
    return subprocess.run(
        [*COMMAND, "--fuzz", where, *limits, *options], capture_output=True, text=True, check=False
    )


def _unpack() -> None:
    FOUND.mkdir(parents=True, exist_ok=True)
    shutil.rmtree(KEPT, ignore_errors=True)
    KEPT.mkdir()
    if CORPUS.exists():
        with zipfile.ZipFile(CORPUS) as packed:
            packed.extractall(KEPT)


def _keep() -> None:
    """Make the corpus anew: as few as reach what the kept inputs, the seeds and two minutes of
    fuzzing from these reach. Nothing that comes from real things is among them, for these are not
    ours to give away.
    """
    _unpack()
    attempts = _readers()
    inputs = {path.read_bytes() for path in KEPT.iterdir()} | set(_seeds(attempts))
    with tempfile.TemporaryDirectory() as name:
        for number, data in enumerate(sorted(inputs)):
            (Path(name) / f"seed-{number}").write_bytes(data)
        fuzzed = _fuzzer(f"-max_total_time={2 * SECONDS}", name)
        if fuzzed.returncode:
            sys.exit(fuzzed.stdout + fuzzed.stderr)
        inputs |= {path.read_bytes() for path in Path(name).iterdir()}
    reached: set[Arc] = set()
    kept = []
    own = [data for data in inputs if data[:KEY] in attempts]
    for data in sorted(own, key=lambda data: (len(data), data)):
        arcs = _arcs(attempts, data)
        if not arcs <= reached:
            reached |= arcs
            kept.append(data)
    with zipfile.ZipFile(CORPUS, "w", zipfile.ZIP_LZMA) as packed:
        for data in kept:
            name = f"{data[:KEY].hex()}-{zlib.crc32(data):08x}"
            packed.writestr(zipfile.ZipInfo(name, EPOCH), data)
    print(f"guided: {len(kept)} inputs kept, {CORPUS.stat().st_size} bytes")


def _arcs(attempts: dict[bytes, Reader], data: bytes) -> set[Arc]:
    """Every step from line to line that a call of a reader makes."""
    arcs: set[Arc] = set()

    def enter(frame: FrameType, _event: str, _value: object) -> object:
        file, before = frame.f_code.co_filename, frame.f_lineno
        if "/mending/formats/" not in file:
            return None

        def step(inner: FrameType, _event: str, _value: object) -> object:
            nonlocal before
            arcs.add((file, before, inner.f_lineno))
            before = inner.f_lineno
            return step

        return step

    sys.settrace(enter)  # type: ignore[arg-type]  # it may give itself or another
    try:
        _tried(attempts, data)
    finally:
        sys.settrace(None)
    return arcs


def _attempts() -> dict[bytes, Reader]:
    """Every reader, and every file that a command reads, by its key."""
    return _readers() | _file_attempts()


def _readers() -> dict[bytes, Reader]:
    """Every reader by its key."""
    with atheris.instrument_imports(include=["mending"]):
        found = list(readers_of(mending.formats))
    return {
        _key(module.__name__, function.__name__): (module, attempt(function))
        for module, function in found
    }


def _file_attempts() -> dict[bytes, Reader]:
    """Every file that a command reads, by its key: it is put in its place, and the call is made."""
    from benchmarks.fuzz_files import samples  # noqa: PLC0415 - behind the instrumentation

    folder = FOUND.parent / f"files-{os.getpid()}"
    atexit.register(shutil.rmtree, folder, ignore_errors=True)

    def call_of(path: Path, read: Callable[[], object]) -> Callable[[bytes], object]:
        def call(data: bytes) -> object:
            path.write_bytes(data[len(PLAIN) :])
            try:
                return read()
            except MendingError:
                return None

        return call

    return {
        _key("files", sample.name): (mending.formats, call_of(sample.path, sample.read))
        for sample in samples(folder)
    }


def _key(module: str, name: str) -> bytes:
    """The same whichever other readers there are."""
    return zlib.crc32(f"{module}.{name}".encode()).to_bytes(4, "big")[:KEY]


def _tried(attempts: dict[bytes, Reader], data: bytes) -> object:
    reader = attempts.get(data[:KEY])
    if reader is None:  # a key that names nobody is a reader all the same
        number = int.from_bytes(data[:KEY], "big")
        reader = list(attempts.values())[number % len(attempts)]
    return reader[1](data[KEY:])


def _seeds(attempts: dict[bytes, Reader]) -> Iterator[bytes]:
    """Pieces of samples, each before every reader that makes something of it and comes to lines
    that no seed of this reader came to.

    Pieces of disks begin where a magic number of the reader's module stands in its place; of texts
    those of tests that name the module are tried first.
    """
    disks, files = _samples()
    pieces = [data[at : at + PIECE] for data in files for at in range(0, len(data), PIECE)]
    pieces += [data for data in files if len(data) <= 4 * PIECE]
    pieces += [row for data in files for row in data.splitlines()[:MOST]]
    texts = _texts_of_tests()
    others = [*pieces, *(text for _, found in texts for text in found)]
    Random(len(others)).shuffle(others)
    for key, (module, call) in attempts.items():
        name = module.__name__.rpartition(".")[2]
        near = [text for source, found in texts if name in source for text in found]
        near += [piece for disk in disks for piece in _around(disk, magic_of(module))]
        reached: set[Arc] = set()
        left = MOST_TRACED
        for piece in dict.fromkeys([*near, *others]):
            if left and call(PLAIN + piece):
                left -= 1
                arcs = _arcs(attempts, key + PLAIN + piece)
                if not arcs <= reached:
                    reached |= arcs
                    yield key + PLAIN + piece


def _texts_of_tests() -> list[tuple[str, list[bytes]]]:
    """The logs and settings that stand in the tests as text, with the source of each test."""
    found = []
    for path in sorted((PROJECT / "tests").glob("test_*.py")):
        source = path.read_text()
        constants = [node.value for node in ast.walk(ast.parse(source)) if _is_constant(node)]
        plain = [each.encode() if isinstance(each, str) else each for each in constants]
        long = [each for each in plain if isinstance(each, bytes) and len(each) >= LEAST_TEXT]
        found.append((source, [each[: 4 * PIECE] for each in long]))
    return found


def _is_constant(node: ast.AST) -> TypeGuard[ast.Constant]:
    return isinstance(node, ast.Constant)


def _write_real() -> None:
    """Inputs of real things, as they are on this machine and in the sample archives, and the files
    of the demo as they are.
    """
    shutil.rmtree(REAL, ignore_errors=True)
    REAL.mkdir(parents=True)
    for key, sound in _sound_files():
        (REAL / f"{key.hex()}-sound").write_bytes(key + PLAIN + sound)
    attempts = _readers()
    for key, inputs in _recorded():
        for number, data in enumerate(inputs):
            (REAL / f"{key.hex()}-call-{number}").write_bytes(key + data)
    kept: Counter[bytes] = Counter()
    for number, data in enumerate(_real_things()):
        for key, (_, call) in attempts.items():
            if kept[key] < MOST_REAL and call(PLAIN + data):
                kept[key] += 1
                (REAL / f"{key.hex()}-{number}").write_bytes(key + PLAIN + data)


def _recorded() -> Iterator[tuple[bytes, list[bytes]]]:
    """Inputs of calls that tests of real things make, by the key of the reader; some of them with
    damage, too.
    """
    from benchmarks.recorded_calls import (  # noqa: PLC0415 - behind the instrumentation
        damaged,
        recorded,
    )

    readers = {function.__code__: function for _, function in readers_of(mending.formats)}
    for code, inputs in recorded(readers).items():
        some = [made for made in inputs if len(made) <= LARGEST][:: max(1, len(inputs) // MOST)]
        hurt = [other for made in some[:MOST] for other in damaged(made)]
        yield _key(readers[code].__module__, readers[code].__name__), [*inputs, *hurt]


def _sound_files() -> Iterator[tuple[bytes, bytes]]:
    from benchmarks.fuzz_files import samples  # noqa: PLC0415 - behind the instrumentation

    with tempfile.TemporaryDirectory() as folder:
        for sample in samples(Path(folder)):
            yield _key("files", sample.name), sample.sound[:LARGEST]


def _real_things() -> Iterator[bytes]:
    for archive in sorted((PROJECT / "build/samples").glob("*.tar.gz")):
        with tarfile.open(archive) as members:
            for member in members:
                stream = members.extractfile(member) if "/_data/" in member.name else None
                if stream is not None:
                    packed = member.name.endswith(".gz")
                    inner = gzip.GzipFile(fileobj=stream) if packed else stream
                    yield inner.read(LARGEST)
    with tempfile.TemporaryDirectory() as name:
        core = Path(name) / "core.img"
        make = ("grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-o", str(core), "biosdisk")
        if shutil.which(make[0]) and subprocess.run(make, check=False).returncode == 0:
            yield core.read_bytes()
    for pattern in ("vmlinuz-*", "initrd.img-*"):
        yield from (path.read_bytes()[:LARGEST] for path in sorted(Path("/boot").glob(pattern))[:1])


def _around(disk: bytes, magic: list[bytes]) -> Iterator[bytes]:
    for value in magic:
        at = disk.find(value)
        for _ in range(MOST):
            if at < 0:
                break
            yield from (disk[at - place : at - place + PIECE] for place in PLACES if place <= at)
            at = disk.find(value, at + PIECE)


def _samples() -> tuple[list[bytes], list[bytes]]:
    """Disks, and the other files that a command reads."""
    from benchmarks.fuzz_files import samples  # noqa: PLC0415 - behind the instrumentation
    from mending.repair.boot import own_code  # noqa: PLC0415
    from mending.workshop import bios_disk, linux_disk, uefi_disk  # noqa: PLC0415
    from mending.workshop.nt import nt_bios_disk, nt_uefi_disk  # noqa: PLC0415

    disks = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = [sample.sound[:MOST_OF_FILE] for sample in samples(folder / "files")]
        logs = sorted((folder / "files/demo").glob("*/evidence/*"))
        files += [path.read_bytes()[:MOST_OF_FILE] for path in logs]
        drafts = (bios_disk(own_code()), uefi_disk(), linux_disk())
        for draft in (*drafts, nt_bios_disk(own_code()), nt_uefi_disk()):
            draft.save(folder / "disk")
            disks.append((folder / "disk").read_bytes())
        for mebibytes, make in MAKERS:
            (folder / "disk").unlink(missing_ok=True)
            with (folder / "disk").open("wb") as empty:
                empty.truncate(mebibytes << 20)
            words = [*make, str(folder / "disk")]
            made = subprocess.run(words, input=PASSWORD, capture_output=True, check=False)
            if made.returncode:
                print(f"guided: no seeds of {make[0]}")
            else:
                disks.append(_without_code((folder / "disk").read_bytes()))
    return disks, files


def _without_code(volume: bytes) -> bytes:
    """A volume without the boot code that its maker put into the boot sector and its copies."""
    data = bytearray(volume)
    for at in (0, 6 * 512, len(data) - 512):
        if data[at : at + 1] == b"\xeb":
            data[at + 90 : at + 510] = bytes(420)
    return bytes(data)


def _fuzz() -> None:
    attempts = _attempts()
    atheris.Setup([sys.argv[0], *sys.argv[2:]], lambda data: _tried(attempts, data))
    atheris.Fuzz()


def _replay() -> None:
    """The share of each module's reading lines that the corpus reaches."""
    coverage = Coverage(include=["*/mending/formats/*"], data_file=None)
    coverage.start()
    attempts = _attempts()
    for folder in (KEPT, REAL, FOUND):
        for path in sorted(folder.iterdir()):
            _tried(attempts, path.read_bytes())
    coverage.stop()
    shares = []
    readers: dict[str, set[str]] = {}
    for _, function in readers_of(mending.formats):
        readers.setdefault(function.__code__.co_filename, set()).add(function.__name__)
    for file, names in readers.items():
        _, statements, _, missing, _ = coverage.analysis2(file)
        lines = set(statements) & _reading_lines(Path(file), names)
        if len(lines) >= LEAST_LINES:
            reached = len(lines - set(missing))
            shares.append((100 * reached // len(lines), file.partition("/formats/")[2]))
    print("guided: lines of the readers that the inputs reach, in percent")
    for share, name in sorted(shares):
        print(f"  {share:3} {name}")
    enough = sum(share >= AIM for share, _ in shares)
    print(f"guided: {enough} of {len(shares)} modules at {AIM} % or more")


def _reading_lines(path: Path, readers: set[str]) -> set[int]:
    """The lines of a module's readers and of the functions beside them that they call."""
    tree = ast.parse(path.read_text())
    functions = {node.name: node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)}
    lines: set[int] = set()
    waiting, seen = [functions[name] for name in readers], set(readers)
    while waiting:
        function = waiting.pop()
        lines |= set(range(function.body[0].lineno, (function.end_lineno or 0) + 1))
        for node in ast.walk(function):
            name = node.id if isinstance(node, ast.Name) else getattr(node, "attr", "")
            if name in functions and name not in seen:
                seen.add(name)
                waiting.append(functions[name])
    return lines


if __name__ == "__main__":
    os.environ.setdefault("PYTHONHASHSEED", "0")
    modes = {"--fuzz": _fuzz, "--replay": _replay, "--keep": _keep, "--real": _write_real}
    modes.get(sys.argv[1] if len(sys.argv) > 1 else "", main)()
