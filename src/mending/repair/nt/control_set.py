"""The repair `control-set`: the system starts with another sound control set. None is deleted."""

from mending.boot.chain import Trace
from mending.disk.hives import Hive, Key
from mending.model import FindingId, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import hive_changes, nt_home, open_system_hive

REPAIR = RepairId.CONTROL_SET
_SELECT, _LAST_GOOD = "Select", "LastKnownGood"
_MOST_SETS = 16
_NUMBER = 4


def propose(request: Request) -> Proposal:
    """Changes of the key that selects the control set.

    Raises:
        RefusedError: the present one is sound, no other is, or several are and nothing tells which
            was good last.
    """
    file = open_system_hive(request, nt_home(request))
    hive = Hive(file.after.data)
    select = hive.root.child(_SELECT)
    if select is None:
        raise RefusedError("The hive has no key that selects a control set.", "hive-set is left.")
    now = select.number("Current") or 0
    sound = [number for number in range(1, _MOST_SETS) if _is_sound(hive, number)]
    if now in sound and not request.settings.anyway:
        raise RefusedError(
            f"Control set {now}, which is selected, has its services and settings.",
            "Add --anyway to start with another one.",
            "--anyway",
        )
    wanted = _wanted(select, [number for number in sound if number != now])
    editor = file.editor()
    values = {"Current": wanted, "Default": wanted, "Failed": now}
    for name, number in values.items():
        editor.set_value(_SELECT, name, _NUMBER, number.to_bytes(4, "little"))
    says = f"the selected control set in {file.path}"
    return Proposal(
        repair=REPAIR,
        says=f"Lets the system start with control set {wanted} instead of {now}.",
        changes=tuple(hive_changes(request, file, editor, says)),
        answers=request.found(FindingId.CONTROL_SET_MISSING),
        fault_after=_gone,
    )


def _wanted(select: Key, others: list[int]) -> int:
    last_good = select.number(_LAST_GOOD) or 0
    if last_good in others:
        return last_good
    if not others:
        raise RefusedError("The hive holds no other sound control set.", "hive-set is left.")
    if len(others) > 1:
        listed = ", ".join(map(str, others))
        raise RefusedError(
            f"Control sets {listed} are sound, and nothing tells which of them was good last.",
            "hive-set is left.",
        )
    return others[0]


def _is_sound(hive: Hive, number: int) -> bool:
    """Whether a control set has services of which some start with the kernel, and settings."""
    key = hive.root.child(f"ControlSet{number:03}")
    services = key.child("Services") if key is not None else None
    if key is None or services is None or key.child("Control") is None:
        return False
    return any(service.number("Start") == 0 for service in services.children())


def _gone(trace: Trace) -> str:
    left = [each for each in trace.findings if each.id == FindingId.CONTROL_SET_MISSING]
    return left[0].says if left else ""
