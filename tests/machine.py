"""Real firmware under QEMU: start a disk image and see whether it gets to its marker. The image is
never changed.
"""

import os
import re
import select
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

_CODES = (Path("/usr/share/OVMF/OVMF_CODE_4M.fd"), Path("/usr/share/OVMF/OVMF_CODE.fd"))
OVMF = next((code for code in _CODES if code.exists()), _CODES[0])
QEMU = "qemu-system-x86_64"
ENDS = {
    "bios": (
        b"No bootable device",
        b"not a bootable disk",
        b"entries of the table are active",
        b"No entry of the table",
        b"active volume",
        b"grub rescue>",
        b"Desk start:",
    ),
    "uefi": (b"UEFI Interactive Shell", b"Shell>", b"grub rescue>", b"grub>"),
}
"""What is on the screen when a start has come to its end without the marker."""
_ESCAPES = re.compile(rb"\x1b\[[0-9;?=]*[a-zA-Z]")


def screen_of(
    image,
    firmware,
    marker,
    seconds=120,
    memory=512,
    idle=12,
    store=None,
    keep=False,
    keep_disk=False,
    ends=(),
    bus="",
    drives=(),
):
    """Start the image; returns what was on the screen up to the marker, the end of the start, or
    the time limit.

    `store` is what UEFI firmware remembers; it changes only with `keep`, the image only with
    `keep_disk`. `ends` are further signs on the screen that the start has come to its end; `bus` is
    how the drive is plugged in, `drives` are further ones beside it.
    """
    with tempfile.TemporaryDirectory() as folder:
        words = [
            QEMU,
            "-machine",
            "q35,accel=tcg",
            "-m",
            str(memory),
            "-nographic",
            "-net",
            "none",
            "-no-reboot",
        ]
        words += ["-drive", f"file={image},format=raw,snapshot={'off' if keep_disk else 'on'}{bus}"]
        for other in drives:
            words += ["-drive", f"file={other},format=raw,snapshot=on{bus}"]
        if firmware == "uefi":
            kept = store if keep else Path(folder) / "vars.fd"
            if not keep:
                shutil.copy(store or Path(str(OVMF).replace("CODE", "VARS")), kept)
            words += [
                "-drive",
                f"if=pflash,format=raw,readonly=on,file={OVMF}",
                "-drive",
                f"if=pflash,format=raw,file={kept}",
            ]
        machine = subprocess.Popen(
            words,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            bufsize=0,
        )
        try:
            return _watch(
                machine,
                (marker.encode(), *ENDS[firmware], *(end.encode() for end in ends)),
                time.monotonic() + seconds,
                idle,
            )
        finally:
            machine.kill()
            machine.wait()
            machine.stdout.close()


def _watch(machine, ends, until, idle):
    """An idle machine has come to its end too: nothing new for `idle` seconds after boot code was
    started.
    """
    seen, quiet_since = b"", time.monotonic()
    while time.monotonic() < until:
        if select.select([machine.stdout], [], [], 0.2)[0]:
            piece = os.read(machine.stdout.fileno(), 65536)
            if not piece:
                break
            seen, quiet_since = seen + piece, time.monotonic()
        plain = _ESCAPES.sub(b"", seen)
        if any(end in plain for end in ends):
            break
        if b"Booting from Hard Disk" in plain and time.monotonic() - quiet_since > idle:
            break
    return _ESCAPES.sub(b"", seen).decode("utf-8", "replace")


def starts(image, firmware, marker, **more):
    """Whether the image gets to its marker."""
    return marker in screen_of(image, firmware, marker, **more)
