"""A small machine under QEMU that runs a script with the real kernel and real programs: for what
only a running kernel can make, where this one cannot.
"""

import gzip
import shutil
import subprocess
import tempfile
from pathlib import Path

from tests.machine import QEMU

BUSYBOX = Path("/bin/busybox")
MARK = "guest: done"
_START = f"""#!/bin/sh
export PATH=/bin:/sbin:/usr/bin:/usr/sbin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev
mkdir -p /run /tmp
for name in $(cat /modules); do insmod /lib/modules/$name; done
sleep 1
sh -e /script && echo '{MARK}'
poweroff -f
"""


def newest_kernel():
    """Version of the newest kernel that is installed with its modules; empty where none is."""
    found = [path.name.removeprefix("vmlinuz-") for path in Path("/boot").glob("vmlinuz-*")]
    return max((each for each in found if Path("/lib/modules", each).is_dir()), default="")


def run_in_guest(script, disks, programs=(), modules=(), seconds=300, memory=512):
    """Run a shell script on these disk images (/dev/vda, vdb, ...); what it printed.

    Args:
        programs: names of programs that are put inside with their libraries.
        modules: names of kernel modules, which are loaded with what they build on.
    """
    version = newest_kernel()
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder) / "root"
        for name in ("bin", "lib/modules", "proc", "sys", "dev", "etc"):
            (top / name).mkdir(parents=True)
        shutil.copy(BUSYBOX, top / "bin/busybox")
        for name in set(_said(BUSYBOX, "--list").split()) - {"busybox"}:
            (top / "bin" / name).symlink_to("busybox")
        for name in programs:
            _with_libraries(Path(shutil.which(name)), top)
        order = [
            each
            for name in ("virtio_pci", "virtio_blk", *modules)
            for each in _order(name, version)
        ]
        listed = list(dict.fromkeys(order))
        for path in listed:
            shutil.copy(path, top / "lib/modules" / path.name)
        (top / "modules").write_text("\n".join(path.name for path in listed) + "\n")
        (top / "script").write_text(script)
        (top / "init").write_text(_START)
        (top / "init").chmod(0o755)
        names = "\n".join(str(path.relative_to(top)) for path in top.rglob("*"))
        made = subprocess.run(
            ["cpio", "-o", "-H", "newc", "--quiet"],
            cwd=top,
            input=names.encode(),
            stdout=subprocess.PIPE,
            check=True,
        )
        image = Path(folder) / "initrd"
        image.write_bytes(gzip.compress(made.stdout, 1))
        words = [QEMU, "-machine", "q35,accel=tcg", "-m", str(memory), "-nographic"]
        words += ["-net", "none", "-no-reboot", "-kernel", f"/boot/vmlinuz-{version}"]
        words += ["-initrd", image, "-append", "console=ttyS0 panic=-1"]
        for disk in disks:
            words += ["-drive", f"file={disk},format=raw,if=virtio"]
        printed = Path(folder) / "printed"
        with printed.open("wb") as out:
            machine = subprocess.Popen(
                words, stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT
            )
            try:
                machine.wait(seconds)
            except subprocess.TimeoutExpired:
                machine.kill()
                machine.wait()
        shown = printed.read_bytes().decode(errors="replace")
    if MARK not in shown:
        raise AssertionError(shown[-3000:])
    return shown


def _said(*words):
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout


def _order(name, version):
    """Files of a module and of what it builds on, in the order of loading; none where built in."""
    shown = subprocess.run(
        ["modprobe", "-S", version, "--show-depends", name], capture_output=True, text=True
    ).stdout
    return [Path(row.split()[1]) for row in shown.splitlines() if row.startswith("insmod")]


def _with_libraries(program, top):
    """Put a program where it was, with all libraries that its loader would load."""
    wanted = [program]
    for row in _said("ldd", program).splitlines():
        wanted += [Path(word) for word in row.split() if word.startswith("/")][:1]
    for path in wanted:
        place = top / str(path).lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, place)
