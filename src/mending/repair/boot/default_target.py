"""The repair `default-target`: where a start aims at a target that is gone, or at an emergency
shell, a link of ours makes it aim at the sign-in (systemd.special(7), `default.target`).
"""

from mending.boot.new_entry import only_linux_system
from mending.model import FileAttributes, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files

REPAIR = RepairId.DEFAULT_TARGET
_LINK = "/etc/systemd/system/default.target"
_FOLDERS = ("/usr/lib/systemd/system", "/lib/systemd/system")
_TARGETS = ("graphical.target", "multi-user.target")
"""What leads to a sign-in, on a screen or without."""


def propose(request: Request) -> Proposal:
    """The change that puts the link.

    Raises:
        RefusedError: no such finding, or no target that leads to a sign-in.
    """
    findings = request.calling_for(REPAIR)
    if not findings:
        raise RefusedError("The default target is there.", "Nothing is written.")
    home = only_linux_system(request.environment)[0].volume
    files = request.environment.files(home)
    places = [f"{folder}/{name}" for folder in _FOLDERS for name in _TARGETS]
    aim = next((place for place in places if files.find(place) is not None), None)
    if aim is None:
        raise RefusedError(
            "No target that leads to a sign-in is on the root.", "Put the package files back first."
        )
    link = FileAttributes(0o777, 0, 0, None, is_link=True)
    changes = put_files(
        request, home, {_LINK: aim.encode()}, "link to the default target", {_LINK: link}
    )
    says = f"{_LINK} on volume {home.number} becomes a link to {aim}."
    return Proposal(repair=REPAIR, says=says, changes=tuple(changes), answers=findings)
