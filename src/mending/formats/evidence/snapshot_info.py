"""What a Linux system writes down with each snapshot that it keeps to go back to:
`.snapshots/N/info.xml`.

Source: the manual pages of the open tools that keep such snapshots: a `snapshot` element with
`num`, `date` (UTC) and `description`.
"""

from xml.etree import ElementTree

from mending.model import RestorePoint, clean_text, read_time

_LARGEST = 64 * 1024


def read(data: bytes) -> RestorePoint | None:
    """The snapshot that a file describes; None for any other file. Entities of its own are
    refused.
    """
    if (
        b"<snapshot" not in data[:512]
        or len(data) > _LARGEST
        or b"<!" in data.replace(b"<!--", b"")
    ):
        return None
    try:
        top = ElementTree.fromstring(data)
    except ElementTree.ParseError:
        return None
    read = read_time(top.findtext("date") or "")
    number = top.findtext("num") or ""
    if top.tag != "snapshot" or read is None or not number.strip():
        return None
    return RestorePoint(
        clean_text(number.strip(), 40), read[0], clean_text(top.findtext("description") or "", 200)
    )
