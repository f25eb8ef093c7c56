"""The repair `start-word`: the word on a command line that ends every start at an emergency shell,
taken out of the menu.

Somebody may have put it there on purpose, so it is asked for. Words inside a loader file, which may
be signed, are left alone.
"""

import re

from mending.boot.chain import OutOfReachError
from mending.boot.linux import diversion
from mending.model import RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files, read_whole

REPAIR = RepairId.START_WORD


def propose(request: Request) -> Proposal:
    """The change of the line that says so.

    Raises:
        RefusedError: no such finding, nobody allowed it, or the line was not found again.
    """
    findings = [each for each in request.calling_for(REPAIR) if each.where.path is not None]
    if not findings:
        raise RefusedError("No command line ends at an emergency shell.", "Nothing is written.")
    if not request.settings.anyway:
        raise RefusedError(
            "The word that ends the start at a shell may be there on purpose.",
            "Ask the user, then add --anyway.",
            "--anyway",
        )
    path, line = str(findings[0].where.path), findings[0].where.line
    environment = request.environment
    for volume in environment.volumes:
        if volume.extended:
            continue
        try:
            found = environment.find(volume, path)
            data = read_whole(environment, volume, found) if found is not None else b""
        except OutOfReachError:
            continue
        rows = data.split(b"\n")
        numbers = [line - 1] if line else list(range(len(rows)))
        for number in numbers:
            row = rows[number] if number < len(rows) else b""
            word = diversion(row.decode("utf-8", errors="replace"))
            if not word:
                continue
            pattern = re.compile(rb"\s+" + re.escape(word.encode()) + rb"(?=\s|$)")
            rows[number] = pattern.sub(b"", row)
            text = b"\n".join(rows)
            if volume.kind.is_journaled and len(text) < len(data):
                text = text.ljust(len(data), b"\n")  # a file that keeps its length keeps its blocks
            changes = put_files(request, volume, {path: text}, f"the word {word} in {path}")
            says = f"{path} on volume {volume.number} no longer says {word}."
            return Proposal(
                repair=REPAIR, says=says, changes=tuple(changes), answers=tuple(findings)
            )
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")
