"""Boot-critical files as a person reads them."""

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, named_target, rows, text, title
from mending.model import quoted
from mending.repair.files import OWN_SUMS, FilesResult

_MOST = 40


def show_files(result: FilesResult, named: str) -> RenderableType:
    """The count, then what is not sound. Args: named: how the person named the target, for the
    command to type next.
    """
    parts: list[RenderableType] = [title(named_target(result.target, named))]
    if result.by == OWN_SUMS:
        return Group(*parts, *_by_own_sums(result))
    count = f"{result.checked} files that starting needs were compared on volume {result.volume}"
    if not result.files:
        return Group(
            *parts, indented(text(f"{count}; all are as their packages have them.", "good"))
        )
    parts += [
        indented(text(f"{count}; not sound: {len(result.files)}.", "bad")),
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
            text(f"do: mending mend {quoted(named)} file-restore, with the same --from", "bold"),
        ]
    return Group(*parts)


_PROOFS = {
    "catalogue": "by a catalogue of the system",
    "header-sum": "by the sum in their header alone",
    "nothing": "by their header alone, which is little",
    "signature": "by what was signed of them",
}


def _by_own_sums(result: FilesResult) -> list[RenderableType]:
    """Programs that were judged without a sound copy."""
    count = f"{result.checked} programs were judged on volume {result.volume}"
    told = [f"{number} {_PROOFS[name]}" for name, number in sorted(result.proofs.items())]
    signed = "signature" in result.proofs or "catalogue" in result.proofs
    judged = "; who signed is not judged" if signed else ""
    proved = indented(text(f"sound: {', '.join(told)}{judged}")) if told else text("")
    if not result.files:
        return [indented(text(f"{count}; none is damaged.", "good")), proved]
    bad = indented(text(f"{count}; not sound: {len(result.files)}.", "bad"))
    parts = [bad, proved, text("")]
    cells = [(file.path, file.state, file.package, file.why) for file in result.files[:_MOST]]
    table = rows(cells, ("file", "state", "what it is", "why"), wide=3, drop=(2,))
    more = len(result.files) - _MOST
    return [*parts, table, *([text(f"… and {more} more; --json has all")] if more > 0 else [])]
