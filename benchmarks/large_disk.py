"""`trace` of a sparse 1 TiB disk with a GPT: bytes read, and seconds against the program's bare
start; and a repair of it: seconds, and what its undo point takes.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
import uuid
from pathlib import Path

from benchmarks.timing import ratio
from mending.formats import gpt
from mending.workshop.disks import SECTOR, ImageDraft, code, fat32_volume, put_guid_table

SIZE = 1 << 40
LIMIT = 16 << 20
REPAIR_SECONDS = 10
_ESP = (2048, 1 << 20)
_DATA = uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")


def run() -> None:
    """Print the figures and whether they keep to the limit."""
    program = str(Path(sys.executable).with_name("mending"))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "large.img"
        _draw().save(path)
        shown = subprocess.run(
            [program, "trace", path, "--json"], capture_output=True, check=True
        ).stdout
        trace = json.loads(shown)
        count = trace["target"]["bytes_read"]
        ours, bare, share = ratio(
            [program, "trace", str(path), "--json"], [program, "signs", "--json"], 7
        )
        _repair(program, path, Path(folder) / "data")
    verdict = "ok" if count < LIMIT and trace["failing_phase"] is None else "too much"
    read = f"{count / (1 << 20):.1f} MiB read (limit {LIMIT >> 20})"
    figures = f"{read}, {ours:.2f} s, {share:.2f} times `signs` ({bare:.2f} s)"
    print(f"trace of 1 TiB: {figures} {verdict}")


def _repair(program: str, path: Path, data: Path) -> None:
    """A damaged primary header, mended; the time is that of the whole command."""
    with path.open("r+b") as file:
        file.seek(SECTOR + 16)
        file.write(b"\xff\xff")
    began = time.monotonic()
    shown = subprocess.run(
        [program, "mend", path, "gpt-copy", "--yes", "--json"],
        capture_output=True,
        check=True,
        env={**os.environ, "XDG_DATA_HOME": str(data)},
    ).stdout
    took = time.monotonic() - began
    changed = sum(write["length"] for write in json.loads(shown)["writes"])
    kept = sum(file.stat().st_size for file in data.rglob("*") if file.is_file())
    most = 2 * changed + (64 << 10)
    verdict = "ok" if kept <= most and took < REPAIR_SECONDS else "too much"
    print(
        f"repair of 1 TiB: {took:.1f} s, {changed} bytes changed, {kept} kept (limit {most})"
        f" {verdict}"
    )


def _draw() -> ImageDraft:
    draft = ImageDraft(SIZE)
    first = _ESP[0] + _ESP[1]
    rest = SIZE // SECTOR - first - 2048
    put_guid_table(
        draft, uuid.UUID(int=7), [(gpt.EFI_SYSTEM, *_ESP, "EFI"), (_DATA, first, rest, "tickets")]
    )
    loader = {"EFI/BOOT/BOOTX64.EFI": code("desk-loader-efi")}
    for offset, data in fat32_volume(_ESP[1], _ESP[0], "EFI", loader, code("fat32-start"), 7):
        draft.put(_ESP[0] * SECTOR + offset, data)
    return draft
