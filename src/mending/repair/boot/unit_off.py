"""The repair `unit-off`: a unit that keeps the start from going on, turned off by a link of ours to
nothing (systemd.unit(5), "masked").

Which unit that is the screen or the logs tell, so the person names it; of a unit whose program is
gone, the trace does. One that somebody wrote on the system itself stays as it is: a condition that
never holds is put beside it. What the start itself depends on is never turned off.
"""

import re

from mending.boot.chain import Trace
from mending.boot.new_entry import only_linux_system
from mending.model import FileAttributes, RefusedError, RepairId, UsageError
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files

REPAIR = RepairId.UNIT_OFF
_FOLDER = "/etc/systemd/system"
_PLACES = (
    _FOLDER,
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
)
_NAME = re.compile(
    r"[A-Za-z0-9:_.\\@-]{1,200}\.(service|mount|automount|swap|socket|timer|path|device)"
)
_BESIDE, _NEVER = "90-off.conf", b"[Unit]\nConditionPathExists=!/\n"
_NEEDED = re.compile(
    r"(systemd-.*|dbus.*|-|usr|var|boot|getty@.*|serial-getty@.*|console-getty|user@.*|polkit"
    r"|lvm2-.*|dm-event|cryptsetup.*|dracut-.*|initrd-.*|kmod.*|udev.*)\.\w+"
)
"""Units without which nothing starts, or nobody can sign in."""


def propose(request: Request) -> Proposal:
    """The change that puts the link.

    Raises:
        UsageError: no unit was named.
        RefusedError: it is not there, is off already, or the start depends on it.
    """
    asked = request.calling_for(REPAIR)
    named = {(each.where.path or "").rpartition("/")[2] for each in asked}
    name = request.settings.unit or (named.pop() if len(named) == 1 else "")
    if not name:
        raise UsageError("Which unit?", "Add --unit NAME, as the screen or the logs write it.")
    if not _NAME.fullmatch(name):
        raise UsageError(f"{name!r} is no name of a unit that can be turned off.")
    if _NEEDED.fullmatch(name):
        raise RefusedError(f"The start depends on {name}.", "Mend what it needs instead.")
    home = only_linux_system(request.environment)[0].volume
    files = request.environment.files(home)
    ours = f"{_FOLDER}/{name}"
    if files.target_of(ours) == "/dev/null":
        raise RefusedError(f"{name} is off already.", "Nothing is written.")
    plain = re.sub(r"@[^.]*\.", "@.", name)
    there = [f"{place}/{each}" for place in _PLACES for each in {name, plain}]
    if not any(files.find(path) is not None for path in there):
        raise RefusedError(f"{name} is no unit of the system on volume {home.number}.")
    answers = tuple(each for each in asked if (each.where.path or "").endswith(f"/{name}"))
    if files.find(ours) is not None and files.target_of(ours) is None:
        path = f"{ours}.d/{_BESIDE}"
        changes = put_files(request, home, {path: _NEVER}, f"what turns {name} off")
        says = f"{name} on volume {home.number} is turned off by a condition in {path}."
    else:
        link = FileAttributes(0o777, 0, 0, None, is_link=True)
        changes = put_files(
            request, home, {ours: b"/dev/null"}, f"link that turns {name} off", {ours: link}
        )
        says = f"{name} on volume {home.number} is turned off by a link in {_FOLDER}."
    return Proposal(
        repair=REPAIR,
        says=says,
        changes=tuple(changes),
        answers=answers,
        fault_after=None if answers else _no_trace_tells,
    )


def _no_trace_tells(_trace: Trace) -> str:
    """Only a test start does; the trace sees that nothing else changed for the worse."""
    return ""
