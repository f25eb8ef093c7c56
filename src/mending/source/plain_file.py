"""Files of this machine that are read as plain files, and nothing else.

What a case, a bundle or an image has beside it may come from anywhere, and so may what stands under
such a name: a FIFO that nobody writes to, or a device that does something when it is opened. What
is no plain file is therefore refused before it is opened; what changes in between is found once it
is open, by a call that waits for nobody.
"""

import os
import stat
from pathlib import Path
from typing import BinaryIO

from mending.model import InputError
from mending.source.portable import NO_LINK, WAITS_FOR_NOBODY


def open_plain(path: Path, *, links: bool = True) -> BinaryIO:
    """A plain file, opened to be read.

    Args:
        links: whether the name itself may be a link to one.

    Raises:
        InputError: something else stands there. OSError: nothing does, or it may not be read.
    """
    _refuse_other(path, path.stat(follow_symlinks=links).st_mode)
    fd = os.open(path, os.O_RDONLY | WAITS_FOR_NOBODY | (0 if links else NO_LINK))
    try:
        _refuse_other(path, os.fstat(fd).st_mode)
        return os.fdopen(fd, "rb")
    except BaseException:
        os.close(fd)
        raise


def refuse_strange(path: Path) -> None:
    """Raise InputError where a name inside of a case, an undo point or a bundle's folder is a link,
    or anything else but a plain file or a folder; one that is not there is fine.
    """
    try:
        mode = path.lstat().st_mode
    except OSError:
        return
    if not stat.S_ISDIR(mode):
        _refuse_other(path, mode)


def _refuse_other(path: Path, mode: int) -> None:
    if stat.S_ISREG(mode):
        return
    if stat.S_ISDIR(mode):
        raise InputError(f"{path} is a folder, and this needs a file.")
    kinds = (
        (stat.S_ISLNK, "a link"),
        (stat.S_ISFIFO, "a FIFO"),
        (stat.S_ISSOCK, "a socket"),
    )
    kind = next((name for asks, name in kinds if asks(mode)), "a device")
    raise InputError(f"{path} is {kind}, and only a plain file is read here.")
