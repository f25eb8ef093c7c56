"""A power cut at every call that changes a medium, under the weakest promises that POSIX gives.

`Recorder` runs something in this process and notes every call below some folders that changes names
or bytes, or waits for the medium. `states` then makes, for a cut behind each of these calls, the
states in which the medium may be found:

* bytes of a file that was not flushed may be there, gone, or there in some blocks of 512 bytes;
* a name (made, renamed, removed) is certain once the folder that it is in was flushed; until then
  it may be there or not, whatever became of later ones;
* what was flushed stays.
"""

import os
from contextlib import ExitStack
from pathlib import Path
from unittest import mock

BLOCK = 512


class Recorder:
    """Notes the calls. Use as a context.

    Attributes:
        calls: (kind, ...) in their order.
    """

    def __init__(self, *folders):
        self.folders = [str(Path(folder).resolve()) for folder in folders]
        self.calls, self.handles, self.at = [], {}, {}

    def __enter__(self):
        self.stack = ExitStack()
        for name in (
            *("open", "close", "write", "pwrite", "fsync", "mkdir", "rmdir"),
            *("rename", "replace", "unlink", "link", "ftruncate"),
        ):
            real = getattr(os, name)
            wrapped = getattr(self, f"_{name}")
            self.stack.enter_context(
                mock.patch.object(
                    os, name, lambda *a, _real=real, _own=wrapped, **k: _own(_real, *a, **k)
                )
            )
        return self

    def __exit__(self, *_):
        self.stack.close()

    def path(self, place, handle=None):
        """Where a call goes, or None where that is not ours."""
        top = self.handles.get(handle, "") if handle is not None else ""
        full = os.path.join(top, os.fspath(place)) if top else os.fspath(place)
        full = os.path.normpath(os.path.join(os.getcwd(), full))
        return full if any(f"{full}/".startswith(f"{top}/") for top in self.folders) else None

    def note(self, kind, *what):
        if None not in what:
            self.calls.append((kind, *what))

    def _open(self, real, path, flags, mode=0o777, *, dir_fd=None):
        where = self.path(path, dir_fd)
        there = where is not None and os.path.lexists(where)
        handle = real(path, flags, mode, dir_fd=dir_fd)
        if where is not None:
            self.handles[handle] = where
            self.at[handle] = os.fstat(handle).st_size if flags & os.O_APPEND else 0
            if flags & os.O_CREAT and not there:
                self.note("make", where)
        else:
            self.handles.pop(handle, None)
        return handle

    def _close(self, real, handle):
        self.handles.pop(handle, None)
        return real(handle)

    def _write(self, real, handle, data):
        count = real(handle, data)
        if handle in self.handles:
            self.note("bytes", self.handles[handle], self.at[handle], bytes(data[:count]))
            self.at[handle] += count
        return count

    def _pwrite(self, real, handle, data, offset):
        count = real(handle, data, offset)
        if handle in self.handles:
            self.note("bytes", self.handles[handle], offset, bytes(data[:count]))
        return count

    def _ftruncate(self, *_):
        raise AssertionError("the model knows no truncation")

    def _fsync(self, real, handle):
        real(handle)
        self.note("flush", self.handles.get(handle))

    def _mkdir(self, real, path, mode=0o777, *, dir_fd=None):
        real(path, mode, dir_fd=dir_fd)
        self.note("folder", self.path(path, dir_fd))

    def _rmdir(self, real, path, *, dir_fd=None):
        real(path, dir_fd=dir_fd)
        self.note("remove", self.path(path, dir_fd))

    def _unlink(self, real, path, *, dir_fd=None):
        real(path, dir_fd=dir_fd)
        self.note("remove", self.path(path, dir_fd))

    def _rename(self, real, old, new, *, src_dir_fd=None, dst_dir_fd=None):
        real(old, new, src_dir_fd=src_dir_fd, dst_dir_fd=dst_dir_fd)
        was, now = self.path(old, src_dir_fd), self.path(new, dst_dir_fd)
        self.note("rename", was, now)
        for handle, place in list(self.handles.items()):
            if was is not None and f"{place}/".startswith(f"{was}/"):
                self.handles[handle] = now + place[len(was) :]

    _replace = _rename

    def _link(self, real, old, new, *, src_dir_fd=None, dst_dir_fd=None):
        real(old, new, src_dir_fd=src_dir_fd, dst_dir_fd=dst_dir_fd)
        self.note("link", self.path(old, src_dir_fd), self.path(new, dst_dir_fd))


class Medium:
    """Names and bytes as they would be found. A file is a list of patches over what it held at
    first, so that a disk of a hundred MiB costs nothing.
    """

    def __init__(self, names):
        self.names = dict(names)  # path -> number of the file, or None for a folder

    def apply(self, call):
        kind, path = call[0], call[1]
        if os.path.dirname(path) not in self.names and kind != "remove":
            return
        if kind == "make":
            self.names[path] = call[2]
        elif kind == "folder":
            self.names[path] = None
        elif kind == "remove":
            self.names.pop(path, None)
        elif kind == "link" and path in self.names:
            self.names[call[2]] = self.names[path]
        elif kind == "rename":
            moved = {
                name: number
                for name, number in self.names.items()
                if f"{name}/".startswith(f"{path}/")
            }
            if not moved or os.path.dirname(call[2]) not in self.names:
                return
            for name in moved:
                del self.names[name]
            for name, number in moved.items():
                self.names[call[2] + name[len(path) :]] = number


def tree_of(*folders):
    """Names and contents below some folders as they are: path -> bytes, None for a folder."""
    found = {}
    for folder in folders:
        top = Path(folder).resolve()
        for above in (top, *top.parents):
            found[str(above)] = None
        for path in sorted(top.rglob("*")) if top.is_dir() else ():
            if not path.is_symlink():
                found[str(path)] = path.read_bytes() if path.is_file() else None
    return found


def states(calls, before):
    """For a cut behind each call the states that the medium may be in.

    Args:
        before: what was there, as `tree_of` gives it.

    Yields:
        number of the call, name of the state, and a mapping of path to (first content, patches);
        None for a folder.
    """
    numbers = {path: number for number, path in enumerate(before) if before[path] is not None}
    first = {number: before[path] for path, number in numbers.items()}
    now = Medium({path: numbers.get(path) for path in before})
    kept = Medium(now.names)
    flushed = {number: [] for number in first}
    open_bytes, open_names = [], []
    for at, call in enumerate([("start", ""), *calls]):
        kind = call[0]
        if kind == "bytes":
            open_bytes.append((now.names[call[1]], call[2], call[3]))
        elif kind == "flush":
            number = now.names.get(call[1])
            if number is None:  # a folder: the names in it are certain now
                for name in [each for each in open_names if _home(each) == call[1]]:
                    kept.apply(name)
                    open_names.remove(name)
            else:
                flushed[number] += [each[1:] for each in open_bytes if each[0] == number]
                open_bytes = [each for each in open_bytes if each[0] != number]
        elif kind != "start":
            if kind == "make":
                number = len(first) + len(before)
                first[number], flushed[number] = b"", []
                call = (*call, number)
            now.apply(call)
            open_names.append(call)
        yield from _choices(at, kept, open_names, open_bytes, first, flushed)


def _home(call):
    return os.path.dirname(call[-1] if call[0] in {"rename", "link"} else call[1])


def _choices(at, kept, names, data, first, flushed):
    half = len(names) // 2
    for name, some_names, blocks in (
        ("nothing more", [], "none"),
        ("all", names, "all"),
        ("names without bytes", names, "none"),
        ("bytes without names", [], "all"),
        ("even blocks", names, "even"),
        ("odd blocks", names, "odd"),
        ("first names", names[:half], "all"),
        ("last names", names[half:], "all"),
    ):
        medium = Medium(kept.names)
        for call in some_names:
            medium.apply(call)
        found = {}
        for path, number in medium.names.items():
            if number is None:
                found[path] = None
                continue
            more = [piece for each in data if each[0] == number for piece in _torn(each, blocks)]
            found[path] = (first[number], [*flushed[number], *more])
        yield at, name, found


def _torn(write, blocks):
    _, offset, data = write
    if blocks == "all":
        return [(offset, data)]
    if blocks == "none":
        return []
    pieces, start = [], 0
    while start < len(data):
        end = min((offset + start) // BLOCK * BLOCK + BLOCK - offset, len(data))
        even = (offset + start) // BLOCK % 2 == 0
        if even == (blocks == "even"):
            pieces.append((offset + start, data[start:end]))
        start = end
    return pieces


def parts(held, ranges):
    """The bytes of a file of a state, of some ranges (offset, length) alone."""
    first, patches = held
    found = []
    for start, length in ranges:
        data = bytearray(first[start : start + length])
        for offset, piece in patches:
            begin, end = max(offset, start), min(offset + len(piece), start + length)
            if begin < end:
                data[begin - start : end - start] = piece[begin - offset : end - offset]
        found.append(bytes(data))
    return found


def content(held):
    """The bytes of a file of a state."""
    first, patches = held
    data = bytearray(first)
    for offset, piece in patches:
        data.extend(bytes(max(offset + len(piece) - len(data), 0)))
        data[offset : offset + len(piece)] = piece
    return bytes(data)
