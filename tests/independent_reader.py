"""Files of a volume as a library of others sees them: what our own readers are held against."""

import pytsk3


class _Image(pytsk3.Img_Info):
    def __init__(self, source):
        self._source = source
        super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

    def read(self, offset, size):
        return self._source.read(offset, size).data

    def get_size(self):
        return self._source.size

    def close(self):
        """The source is closed by whoever opened it."""


class IndependentReader:
    """One opened volume. `kind` is the library's name of the file system."""

    def __init__(self, source, offset, kind):
        kind = getattr(pytsk3, f"TSK_FS_TYPE_{kind}")
        self._filesystem = pytsk3.FS_Info(_Image(source), offset=offset, type=kind)

    def listing(self, folder):
        """Rows of name, length, is folder, is link, permission bits; deleted names left out."""
        return [row for row in map(_row, self._filesystem.open_dir(path=folder)) if row]

    def read(self, path, length):
        """The first bytes of a file."""
        return self._filesystem.open(path).read_random(0, length)

    def link(self, path):
        """What a link points at."""
        return self._filesystem.open(path).info.meta.link.decode()


def _row(entry):
    name, meta = entry.info.name, entry.info.meta
    if name is None or meta is None or int(name.flags) != int(pytsk3.TSK_FS_NAME_FLAG_ALLOC):
        return None
    shown = name.name.decode("utf-8", errors="replace")
    folder = int(meta.type) == int(pytsk3.TSK_FS_META_TYPE_DIR)
    link = int(meta.type) == int(pytsk3.TSK_FS_META_TYPE_LNK)
    row = shown, int(meta.size), folder, link, int(meta.mode)
    return None if shown in {"", ".", ".."} else row
