"""Mutations of everything beside disks that a command reads: logs, dumps, cases, undo points,
knowledge, variables of firmware, packages and mounted trees.

Each sample is a file and a call that reads it. The file is changed at random and put in its place;
then the call is made.
"""

import io
import json
import random
import shutil
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

import msgspec
from tests.systems import Trees
from tests.test_boot_options import STORE, entry, store

import mending
from mending.app.evidence import read_crashes
from mending.boot.trace import trace_target
from mending.boot.uefi import read_boot_options
from mending.case import case_result, load_case
from mending.crash.read import log_file
from mending.disk.healthy import load_copy
from mending.formats import packages
from mending.knowledge import base_pack
from mending.knowledge.codes import load_codes
from mending.knowledge.events import load_events
from mending.knowledge.load import load_pack
from mending.repair.boot import own_code
from mending.repair.journal import Journal
from mending.source import MemorySource, open_folder_source, open_source
from mending.source.imaging import load_record, record_path
from mending.workshop import bios_disk

_LARGEST = 1 << 20
_WORDS = (b"\0" * 64, b"\xff" * 8, b"[[" * 40, b"9" * 400, b"{}", b"\n", b"%s" * 20, b"-1")


class Sample(msgspec.Struct):
    """A file that is changed, and what reads it; `words` are the command that does."""

    name: str
    path: Path
    sound: bytes
    read: Callable[[], object]
    words: tuple[str, ...] = ()


def samples(folder: Path) -> list[Sample]:
    """One of every kind, below a folder."""
    folder.mkdir(exist_ok=True)
    # a process of its own, so that what making needs does not count as memory of reading
    call = [sys.executable, "-m", "mending", "demo", str(folder / "demo")]
    subprocess.run(call, check=True, stdout=subprocess.DEVNULL)
    return [
        *_evidence(folder / "demo"),
        *_cases(folder / "demo"),
        *_points(folder / "demo"),
        *_packs(folder / "packs"),
        *_variables(folder),
        _package(folder),
        *_tree(folder),
        *_records(folder),
    ]


def mutated(draw: random.Random, sound: bytes) -> bytes:
    """Bytes changed, cut off, doubled, or words put in."""
    data = bytearray(sound)
    for _ in range(draw.choice((1, 1, 2, 4, 16))):
        at = draw.randrange(len(data) + 1)
        kind = draw.random()
        if kind < 0.6 and at < len(data):
            data[at] = draw.choice((0, 1, 0x7F, 0x80, 0xFF, draw.randrange(256)))
        elif kind < 0.7:
            del data[at:]
        elif kind < 0.8:
            del data[at : at + draw.randrange(64)]
        elif kind < 0.9:
            data[at:at] = data[at : at + draw.randrange(256)]
        else:
            data[at:at] = draw.choice(_WORDS)
    return bytes(data)


def _sample(path: Path, read: Callable[[], object], *words: str | Path) -> Sample:
    typed = tuple(str(word) for word in words)
    return Sample(path.name, path, path.read_bytes()[:_LARGEST], read, typed)


def _evidence(demo: Path) -> list[Sample]:
    found: dict[str, Path] = {}
    for path in sorted(demo.glob("*/evidence/*")):
        found.setdefault(path.suffix, path)
    return [
        _sample(path, partial(_read_evidence, path), "crashes", path) for path in found.values()
    ]


def _read_evidence(path: Path) -> object:
    return read_crashes("fuzz", [log_file(path.name, path)])


def _cases(demo: Path) -> list[Sample]:
    case = next(path.parent for path in sorted(demo.glob("*/undo")))
    return [
        _sample(case / name, lambda: case_result(load_case(case), base_pack()), "causes", case)
        for name in ("case.json", "record.jsonl")
    ]


def _points(demo: Path) -> list[Sample]:
    folder = next(iter(sorted(demo.glob("*/undo"))))
    point = next(iter(sorted(folder.iterdir())))
    journal, target = Journal(folder, demo / "key"), MemorySource(bytes(range(256)) * 16)

    def read() -> object:
        return [each.changes() for each in journal.load().points], journal.points_of(target)

    return [_sample(point / name, read) for name in ("point.json", "state.json", "seal")]


def _packs(folder: Path) -> list[Sample]:
    shutil.copytree(Path(mending.__file__).parent / "knowledge/packs/base", folder)
    calls: dict[str, Callable[[Path], object]] = {
        **dict.fromkeys(("signs", "clues", "causes", "steps", "visits", "grades"), load_pack),
        **dict.fromkeys(("stops", "statuses", "messages", "suspects"), load_codes),
        "events": load_events,
    }
    there = {name: folder / f"{name}.toml" for name in calls}
    return [
        _sample(path, partial(calls[name], folder)) for name, path in there.items() if path.exists()
    ]


def _variables(folder: Path) -> list[Sample]:
    if not STORE.exists():
        return []
    path = folder / "variables.fd"
    order = b"\0\0\1\0"
    path.write_bytes(store({"BootOrder": order, "Boot0000": entry(), "Boot0001": entry("Other")}))
    return [_sample(path, lambda: read_boot_options(path))]


def _package(folder: Path) -> Sample:
    inner = io.BytesIO()
    with tarfile.open(fileobj=inner, mode="w:xz") as archive:
        member = tarfile.TarInfo("./usr/bin/sh")
        member.size = 4000
        archive.addfile(member, io.BytesIO(b"x" * 4000))
    data = inner.getvalue()
    head = b"data.tar.xz/".ljust(16) + b"0".ljust(12) * 2 + b"100644  "
    path = folder / "login.deb"
    path.write_bytes(
        b"!<arch>\n" + head.ljust(48) + str(len(data)).encode().ljust(10) + b"`\n" + data
    )
    return _sample(
        path, lambda: list(packages.files_of(path.read_bytes(), {"/usr/bin/sh": ""}, 1 << 24))
    )


def _records(folder: Path) -> list[Sample]:
    """What Mending writes and others may send: a reading record, a bundle, a healthy copy."""
    disk, drive = folder / "desk.img", folder / "drive.img"
    bios_disk(own_code()).save(disk)
    drive.write_bytes(random.Random(5).randbytes(1 << 20))
    image, bundle, copy = folder / "image.img", folder / "bundle.zip", folder / "kept.zip"
    call = [sys.executable, "-m", "mending"]
    for words in (
        ("copy", drive, image),
        ("gather", disk, "-o", bundle),
        ("keep", disk, "--anyway", "-o", copy),
    ):
        subprocess.run([*call, *map(str, words)], check=True, stdout=subprocess.DEVNULL)

    def trace(path: Path) -> object:
        with open_source(str(path)) as source:
            return trace_target(source)

    return [
        _sample(record_path(str(image)), lambda: load_record(str(image)), "trace", image),
        _sample(bundle, partial(trace, bundle), "trace", bundle),
        _sample(copy, lambda: load_copy(copy), "trace", disk, "--against", copy),
    ]


def _tree(folder: Path) -> list[Sample]:
    helper = Trees()
    helper.folder = folder / "system"
    helper.folder.mkdir()
    files = helper.with_packages()
    top = helper.planted(files)

    def read() -> object:
        tree = open_folder_source(str(top))
        try:
            return trace_target(tree)
        finally:
            tree.close()

    return [_sample(top / name, read) for name in files if len(files[name]) > 4]


def check_samples() -> None:
    """Every sample is read as it is: `python -m benchmarks.fuzz_files`."""
    with tempfile.TemporaryDirectory() as folder:
        found = samples(Path(folder))
        for sample in found:
            sample.read()
        print(json.dumps(sorted(sample.name for sample in found)))


if __name__ == "__main__":
    check_samples()
