"""All tests that use something which a machine need not have, run where it is hidden: each has to
skip, with its reason. `python -m tests.bare note FILE` runs tests as usual and notes what they use
(`make test` with MENDING_NOTES=FILE does so); `python -m tests.bare run FILE` runs just those in a
mount namespace in which all of it is gone (Linux, root).

A test that uses such a thing without asking for it first passes wherever it is installed, and so
nobody sees that it fails on a new machine. So what tests use is watched (PEP 578), not read off
their decorators.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

HIDDEN_FOLDERS = (
    "/usr/lib/grub",
    "/usr/lib/syslinux",
    "/usr/lib/SYSLINUX",
    "/usr/lib/systemd/boot",
    "/usr/lib/shim",
    "/usr/share/OVMF",
    "/usr/share/qemu",
    "/usr/share/seabios",
    "/usr/lib/python3/dist-packages",
    "/boot",
)
"""What packages of the system bring that tests read."""
KEPT = (
    *("bash", "sh", "env", "cat", "ls", "cp", "mv", "rm", "mkdir", "true", "false", "sleep", "git"),
    *("umount", "mount", "grep", "sed", "tail", "head", "uname", "id", "dirname", "basename"),
)
"""Programs that every machine has; the interpreter of the tests is in a folder of its own."""
PROGRAM_FOLDERS = ("/usr/bin", "/usr/sbin", "/bin", "/sbin", "/usr/local/bin", "/usr/local/sbin")
_NOTES = os.environ.get("MENDING_NOTES")


def watch():
    """Note which test class uses what may be missing; one line for each class."""
    if not _NOTES:
        return
    noted = set()

    def hook(event, args):
        if event == "open":
            path = str(args[0])
            if not path.startswith(HIDDEN_FOLDERS):
                return
        elif event == "subprocess.Popen":
            path = shutil.which(str(args[0])) or str(args[0])
            if not path.startswith(PROGRAM_FOLDERS) or Path(path).name in KEPT:
                return
        elif event in {"os.posix_spawn", "os.exec"}:
            path = str(args[0])
        else:
            return
        name = _class_at_work()
        if name is not None and name not in noted:
            noted.add(name)
            with open(_NOTES, "a") as file:  # noqa: PTH123 - Path.open would come here again
                file.write(f"{name}\n")

    sys.addaudithook(hook)


def _class_at_work():
    """The test class that runs, found up the stack."""
    frame = sys._getframe(2)
    while frame is not None:
        for name in ("self", "cls"):
            found = frame.f_locals.get(name)
            kind = found if isinstance(found, type) else type(found)
            if issubclass(kind, unittest.TestCase) and kind.__module__.startswith("tests."):
                return f"{kind.__module__}.{kind.__qualname__}"
        frame = frame.f_back
    return None


def run(notes):
    """Run the noted classes where all of it is hidden; 0 where each of their tests that needs
    something skipped.
    """
    classes = sorted(set(Path(notes).read_text().split()))
    with tempfile.TemporaryDirectory() as folder:
        empty, bins = Path(folder) / "empty", Path(folder) / "bin"
        empty.mkdir()
        bins.mkdir()
        for name in KEPT:
            found = shutil.which(name)
            if found:
                shutil.copy(os.path.realpath(found), bins / name)
        own = Path(os.path.realpath(sys.executable))
        if str(own).startswith(PROGRAM_FOLDERS):  # the system's own interpreter
            shutil.copy(own, bins / own.name)
        lines = ["set -e", "mount --make-rprivate /"]
        for place in HIDDEN_FOLDERS:
            if Path(place).is_dir():
                lines.append(f"mount --bind {empty} {place}")
        for place in ("/usr/sbin", "/usr/local/bin", "/usr/local/sbin", "/usr/bin"):
            lines.append(f"mount --bind {bins} {place}")
        halves = [
            _started(Path(folder) / name, lines, classes[at::2]) for at, name in enumerate("ab")
        ]
        ended = [(half.communicate()[1], half.returncode) for half in halves]
    skipped = sum(told.count("... skipped") for told, _ in ended)
    print(f"{len(classes)} classes that use what a machine need not have: {skipped} tests skipped")
    for told, status in ended:
        if status:
            print(told[-6000:])
    return max(status for _, status in ended)


def _started(script, lines, classes):
    """Half of the classes, begun in a namespace of their own."""
    words = [sys.executable, "-m", "unittest", "-v", *classes]
    script.write_text("\n".join([*lines, f"PATH=/usr/bin exec {' '.join(words)}"]) + "\n")
    env = {key: value for key, value in os.environ.items() if key != "MENDING_NOTHING_SKIPS"}
    return subprocess.Popen(
        ["unshare", "--mount", "bash", str(script)], env=env, stderr=subprocess.PIPE, text=True
    )


if __name__ == "__main__":
    sys.exit(run(sys.argv[2]))
