"""The repair `account-copy`: the list of accounts, or the passwords, that is empty or damaged, put
back from the copy that the programs of accounts keep of the state before their last change
(passwd(5), shadow(5)).

What was changed last is lost with it; that is said. A copy that is not whole itself is not taken.
"""

from mending.boot.chain import OutOfReachError
from mending.boot.linux import COPY_ENDING, read_accounts
from mending.boot.new_entry import only_linux_system
from mending.model import FileAttributes, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files

REPAIR = RepairId.ACCOUNT_COPY
_ACCOUNTS, _SECRETS, _GROUPS = "/etc/passwd", "/etc/shadow", "/etc/group"
_MODES = {_ACCOUNTS: 0o644, _SECRETS: 0o640, _GROUPS: 0o644}
_SHADOW_GROUP = "shadow"


def propose(request: Request) -> Proposal:
    """The changes that put the files back.

    Raises:
        RefusedError: no such finding, or a copy that is not whole.
    """
    findings = [each for each in request.calling_for(REPAIR) if each.where.path in _MODES]
    if not findings:
        raise RefusedError("The files of accounts are whole.", "Nothing is written.")
    home = only_linux_system(request.environment)[0].volume
    named = dict.fromkeys(str(each.where.path) for each in findings)
    try:
        paths = [*named, *(path for path in _MODES if path not in named and _empty(request, path))]
        copies = {path: request.environment.read(home, path + COPY_ENDING) for path in paths}
        table = request.environment.read(home, "/etc/group").decode("utf-8", errors="replace")
    except OutOfReachError as error:
        raise RefusedError(f"The copies cannot be read: {error}") from error
    for path, data in copies.items():
        _refuse_damaged(path + COPY_ENDING, data)
    attributes = {
        path: FileAttributes(_MODES[path], 0, _group(table) if path == _SECRETS else 0, None)
        for path in paths
    }
    changes = put_files(request, home, copies, "files of accounts", attributes)
    listed = " and ".join(paths)
    says = (
        f"{listed} on volume {home.number} becomes what its copy has: the state before the last"
        " change of an account or a password."
    )
    return Proposal(repair=REPAIR, says=says, changes=tuple(changes), answers=tuple(findings))


def _empty(request: Request, path: str) -> bool:
    """Whether another of the files is empty and has a copy: what emptied one often emptied all."""
    home, environment = only_linux_system(request.environment)[0].volume, request.environment
    found, copy = (environment.find(home, each) for each in (path, path + COPY_ENDING))
    return found is not None and found.bytes == 0 and copy is not None and copy.bytes > 0


def _refuse_damaged(path: str, data: bytes) -> None:
    """Raise RefusedError where a copy would let nobody in either."""
    rows = data.decode("utf-8", errors="replace").splitlines()
    whole = all(row.count(":") >= 1 for row in rows if row.strip())
    if path.startswith(_ACCOUNTS):
        first = any(row.split(":")[2:3] == ["0"] for row in rows)
        whole = whole and first and bool(read_accounts(rows))
    if not whole or not rows:
        raise RefusedError(f"The copy {path} is not whole either.", "Put both back from a backup.")


def _group(table: str) -> int:
    """The number of the group that may read passwords; the administrator's where there is none."""
    for row in table.splitlines():
        fields = row.split(":")
        if fields[0] == _SHADOW_GROUP and len(fields) > 2 and fields[2].isdecimal():
            return int(fields[2])
    return 0
