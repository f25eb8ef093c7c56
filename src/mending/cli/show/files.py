"""Boot-critical files as a person reads them."""

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, named_target, rows, text, title
from mending.repair.files import FilesResult

_MOST = 40


def show_files(result: FilesResult, named: str) -> RenderableType:
    """The count, then what is not sound. Args: named: how the person named the target, for the
    command to type next.
    """
    parts: list[RenderableType] = [title(named_target(result.target, named))]
    count = f"{result.checked} files that starting needs were compared on volume {result.volume}"
    if not result.files:
        return Group(
            *parts, indented(text(f"{count}; all are as their packages have them.", "green"))
        )
    parts += [
        indented(text(f"{count}; {len(result.files)} of them are not sound.", "bold red")),
        text(""),
    ]
    cells = [
        (file.path, file.state, file.package, "at hand" if file.copy else "none")
        for file in result.files[:_MOST]
    ]
    parts.append(rows(cells, ("file", "state", "package", "sound copy"), wide=0, drop=(2,)))
    if len(result.files) > _MOST:
        parts.append(text(f"… and {len(result.files) - _MOST} more; --json has all of them"))
    if any(file.copy for file in result.files):
        parts += [
            text(""),
            text(f"do: mending mend {named} file-restore, with the same --from", "bold"),
        ]
    return Group(*parts)
