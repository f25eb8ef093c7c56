"""The copy of a drive as a person reads it: what matters first."""

from rich.console import Group, RenderableType

from mending.app.copies.copy_checking import CopyCheckResult
from mending.app.copies.copying import CopyResult, PartResult
from mending.cli.show.console import indented, rows, size, text, title
from mending.model import quoted
from mending.source.drive_health import DriveHealth

_MOST = 12
_NAMES = {"asked-for": "asked for first", "others": "other files"}


def show_copy(result: CopyResult) -> RenderableType:
    """How much of what matters is safe, which files are not, and what to do next."""
    cells: list[tuple[object, ...]] = [
        ("safe", f"{size(result.safe)} of {size(result.bytes)}"),
        *((_NAMES[part.what], _part(part)) for part in result.parts if part.files),
        ("unread", text(size(result.unread), "warning") if result.unread else "nothing"),
    ]
    if result.health is not None:
        cells.append(("the drive says", _health(result.health)))
    if result.stopped:
        cells.append(("stopped", text(result.stopped, "warning")))
    parts: list[RenderableType] = [title(result.image), indented(rows(cells))]
    if result.unread_files:
        listed = [
            (file.path, f"{size(file.safe_bytes)} of {size(file.bytes)}")
            for file in result.unread_files[:_MOST]
        ]
        parts += [text(""), title("files that are not whole"), indented(rows(listed, wide=0))]
        left = len(result.unread_files) - _MOST
        parts += [text(f"and {left} more; --json has them")] if left > 0 else []
    for says in result.unseen[:_MOST]:
        parts.append(text(f"not walked: {says}", "warning"))
    parts.append(text(""))
    if result.stopped or result.unread:
        parts.append(text(f"go on: mending copy {quoted(result.drive)} {quoted(result.image)}"))
    parts.append(text(f"then: mending trace {quoted(result.image)}"))
    if result.asked:
        parts.append(
            text(f"is it still what was read? mending copy {quoted(result.image)} --verify")
        )
    return Group(*parts)


def show_copy_check(result: CopyCheckResult) -> RenderableType:
    """Whether the image holds what the drive gave; where it does not, and what to do next."""
    lost = sum(piece.bytes for piece in result.lost)
    cells: list[tuple[object, ...]] = [
        ("as it was read", size(result.checked - lost)),
        ("not any more", text(size(lost), "bad") if lost else "nothing"),
        ("known zeros", f"{size(result.without_sum)}, without having been read"),
        ("unread", text(size(result.unread), "warning") if result.unread else "nothing"),
    ]
    parts: list[RenderableType] = [title(result.image), indented(rows(cells))]
    if result.lost:
        listed = [(f"{piece.offset:#x}", size(piece.bytes)) for piece in result.lost[:_MOST]]
        parts += [text(""), title("pieces that differ"), indented(rows(listed))]
        left = len(result.lost) - _MOST
        parts += [text(f"and {left} more; --json has them")] if left > 0 else []
    if result.unread or result.lost:
        verify = " --verify" if result.lost else ""
        parts += [
            text(""),
            text(f"go on: mending copy {quoted(result.drive)} {quoted(result.image)}{verify}"),
        ]
    return Group(*parts)


def _part(part: PartResult) -> str:
    files = f"{part.safe_files} of {part.files} files"
    return f"{files}, {size(part.safe_bytes)} of {size(part.bytes)}"


def _health(health: DriveHealth) -> str:
    told = [
        f"state {health.state}" if health.state else "",
        f"{health.requests_failed} requests failed" if health.requests_failed else "",
        f"{health.requests_timed_out} timed out" if health.requests_timed_out else "",
        f"{health.celsius:.0f} °C" if health.celsius is not None else "",
    ]
    return ", ".join(filter(None, told)) or "nothing"
