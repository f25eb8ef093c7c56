"""The repair `boot-entries`: an entry for every sound kernel, in the form that the boot manager on this disk reads.

Entry files for a manager that reads them; a small menu where GRUB is the manager. Entries that work are never touched.
"""

from mending.boot import ElsewhereError, Goal, SoundKernel, entry_home, goal_of, sound_kernels
from mending.disk import FilesUnavailableError, Volume
from mending.model import Change, Finding, RefusedError
from mending.model.limits import INITRAMFS_BYTES, KERNEL_BYTES
from mending.repair.proposal import FilesRequest, Proposal

REPAIR = "boot-entries"
_FOR_FILES = ("boot-entries-missing", "kernel-missing")
_FOR_MENU = ("grub-menu-missing", "grub-menu-empty")
_ENTRIES = "loader/entries"


def propose(request: FilesRequest) -> Proposal:
    """Changes that add entries.

    Raises:
        RefusedError: no such finding, no sound kernel, no telling which system is meant, or no room.
    """
    present = [one for one in request.trace.findings if REPAIR in one.repairs]
    if not present:
        raise RefusedError("The boot manager has an entry that can be shown.", "Entries that work are not replaced.")
    goal = goal_of(request.grounds)
    if goal.volume.encrypted:
        raise RefusedError("The root is encrypted; what unlocks it belongs in the entry.", "Write it by hand.")
    if present[0].id in _FOR_MENU:
        says, changes = _menu(request, goal, present[0])
    else:
        says, changes = _files(request, goal)
    answers = tuple(sorted({one.id for one in present if one.id in (*_FOR_FILES, *_FOR_MENU)}))
    return Proposal(REPAIR, says, tuple(changes), answers)


def _files(request: FilesRequest, goal: Goal) -> tuple[str, list[Change]]:
    home = entry_home(request.grounds)
    if home is None:
        raise RefusedError("No boot manager that reads entry files was found.", "Mend its loader first.")
    kernels = sound_kernels(request.grounds, home)
    copied: dict[str, bytes] = {}
    if not kernels:
        kernels, copied = _brought(request, goal, home)
    files = dict(copied)
    for one in kernels:
        rows = [f"title {goal.title}", f"version {one.version}", f"sort-key {goal.key}", f"linux {one.path}"]
        rows += [f"initrd {one.initrd}"] if one.initrd else []
        text = "\n".join([*rows, f"options {goal.line(bool(one.initrd))}", ""])
        files[_free_name(request, home, f"{goal.key}-{one.version}")] = text.encode()
    changes = request.put(home, files, f"boot entries and the tables of volume {home.number}")
    what = f"; kernel and initial file system copied from volume {goal.volume.number}" if copied else ""
    versions = ", ".join(one.version for one in kernels)
    return f"Writes entries for {versions} to /{_ENTRIES} on volume {home.number}{what}.", changes


def _brought(request: FilesRequest, goal: Goal, home: Volume) -> tuple[list[SoundKernel], dict[str, bytes]]:
    """The newest kernel of the system itself, and the copies of it that the manager can reach."""
    own = [one for one in sound_kernels(request.grounds, goal.volume) if one.initrd]
    if not own:
        raise RefusedError("No sound kernel with its initial file system was found.", "Restore one first.")
    newest, folder = own[0], f"/{goal.key}/{own[0].version}"
    files = {
        f"{folder}/linux": _whole(request, newest.volume, newest.path, KERNEL_BYTES),
        f"{folder}/initrd": _whole(request, newest.volume, newest.initrd, INITRAMFS_BYTES),
    }
    return [SoundKernel(home, f"{folder}/linux", newest.version, f"{folder}/initrd")], files


def _whole(request: FilesRequest, volume: Volume, path: str, limit: int) -> bytes:
    try:
        return request.grounds.read(volume, path, limit)
    except (ElsewhereError, FilesUnavailableError) as error:
        raise RefusedError(f"{path} cannot be read to its end: {error}") from error


def _free_name(request: FilesRequest, home: Volume, stem: str) -> str:
    """A name that no entry has: one that is there, hidden or not, stays as it is."""
    names = [f"{_ENTRIES}/{stem}.conf", *(f"{_ENTRIES}/{stem}-{number}.conf" for number in range(2, 100))]
    return next(name for name in names if request.grounds.find(home, name) is None)


def _menu(request: FilesRequest, goal: Goal, finding: Finding) -> tuple[str, list[Change]]:
    path = finding.where.path or ""
    home = _menu_home(request, path)
    volumes = [home, goal.volume] if home != goal.volume else [home]
    kernels = [one for volume in volumes for one in sound_kernels(request.grounds, volume)]
    if not kernels:
        raise RefusedError("No sound kernel was found for a menu.", "Restore one first.")
    text = "\n".join(["set timeout=3", "set default=0", *(_menu_entry(request, goal, one) for one in kernels), ""])
    found = request.grounds.find(home, path)
    data = text.encode()
    if found is not None and home.filesystem == "ext":
        data = data.ljust(found.bytes, b"\n")  # on ext a file keeps its length
    changes = request.put(home, {found.path if found is not None else path: data}, f"GRUB's menu {path}")
    versions = ", ".join(one.version for one in kernels)
    return f"Writes a menu for {versions} to {path} on volume {home.number}.", changes


def _menu_home(request: FilesRequest, path: str) -> Volume:
    """The only volume that has the folder of the menu."""
    folder, found = path.rpartition("/")[0], []
    for volume in request.grounds.volumes:
        try:
            home = request.grounds.find(volume, folder) if not volume.extended else None
        except ElsewhereError:
            continue
        found += [volume] if home is not None and home.is_folder else []
    if len(found) != 1:
        count = "No volume" if not found else f"{len(found)} volumes"
        raise RefusedError(f"{count} have the folder {folder}, so where the menu goes cannot be told.", "Ask the user.")
    return found[0]


def _menu_entry(request: FilesRequest, goal: Goal, one: SoundKernel) -> str:
    identifier = request.grounds.contents(one.volume).facts.identifier
    rows = [f"search --no-floppy --fs-uuid --set=root {identifier}"] if identifier else []
    rows += [f"linux {one.path} {goal.line(bool(one.initrd))}", *([f"initrd {one.initrd}"] if one.initrd else [])]
    inside = "\n".join(f"  {row}" for row in rows)
    title = "".join(sign for sign in goal.title if sign not in "'\\\n")
    return f"menuentry '{title} ({one.version})' {{\n{inside}\n}}"
