"""A drive that fails by a map: in the process of a test, or as a file of its own for the installed
program (`python -m tests.flaky_drive IMAGE FOLDER LOG MAP`, through FUSE).

The map is JSON: `bad` ranges never answer, `twice` ranges fail twice and then answer, `slow` ranges
take long; `gone_after` bytes it is gone.
"""

import errno
import json
import os
import stat
import sys
import time
from pathlib import Path

from mending.model import InputError, ReadError, Window
from mending.source import TargetKind
from mending.source.targets import DiskTarget

USUAL, SLOW, FAILING = 0.0001, 0.05, 0.3
"""Seconds that an answer takes."""


def touches(ranges, start, end):
    return any(first < end and start < last for first, last in ranges)


class FlakyDrive(DiskTarget):
    """Times are made up: `now` is the clock."""

    def __init__(self, data, bad=(), twice=(), slow=(), gone_after=None):
        self.path, self.kind, self.serial = "/dev/quay", TargetKind.DEVICE, "Q-7"
        self.data, self.size, self.bytes_per_sector = data, len(data), 512
        self.bad, self.twice, self.slow = list(bad), list(twice), list(slow)
        self.gone_after, self.asked, self.now = gone_after, 0, 0.0
        self.failures, self.given = {}, []
        self.curve, self.says = [], []

    def clock(self):
        return self.now

    def read(self, offset, length):
        if self.gone_after is not None and self.asked >= self.gone_after:
            raise InputError(f"{self.path} cannot be used: No such device.")
        self.asked += length
        end = offset + length
        self.now += SLOW if touches(self.slow, offset, end) else USUAL
        hit = [each for each in self.twice if touches([each], offset, end)]
        for each in hit:
            self.failures[each] = self.failures.get(each, 0) + 1
        if touches(self.bad, offset, end) or any(self.failures[each] < 3 for each in hit):
            self.now += FAILING
            raise ReadError("no answer", offset, length)
        self.given.append((offset, end))
        return Window(self.data[offset:end], offset)

    def data_ranges(self):
        yield 0, self.size

    def count_read(self, count):
        pass

    def close(self):
        pass


def serve(image, folder, log, how):
    """Show the image as `drive` in a folder, failing by the map, and note every answer."""
    import mfusepy  # noqa: PLC0415 - only the server needs it

    fd = os.open(image, os.O_RDONLY)
    size = os.fstat(fd).st_size
    lines = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND)

    class Served(mfusepy.Operations):
        use_ns = True

        def getattr(self, path, _fh=None):
            if path == "/":
                return {"st_mode": stat.S_IFDIR | 0o755, "st_nlink": 2}
            if path != "/drive":
                raise mfusepy.FuseOSError(errno.ENOENT)
            return {"st_mode": stat.S_IFREG | 0o444, "st_nlink": 1, "st_size": size}

        def readdir(self, _path, _fh):
            return [".", "..", "drive"]

        def read(self, _path, length, offset, _fh):
            end = min(offset + length, size)
            time.sleep(0.001 if not touches(how.get("slow", ()), offset, end) else 0.02)
            if touches(how.get("bad", ()), offset, end):
                raise mfusepy.FuseOSError(errno.EIO)
            os.write(lines, f"{offset} {end}\n".encode())
            return os.pread(fd, end - offset, offset)

    mfusepy.FUSE(Served(), str(folder), foreground=True, nothreads=True, direct_io=True)


if __name__ == "__main__":
    serve(*map(Path, sys.argv[1:4]), json.loads(Path(sys.argv[4]).read_text()))
