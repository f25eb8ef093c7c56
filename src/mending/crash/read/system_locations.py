"""Where an installed system keeps what tells of crashes; its folders are found by structure, not by
name.
"""

from collections.abc import Iterator

from mending.disk.files import FileFound, Files, FilesUnavailableError
from mending.disk.system import systems_on

_PLACES = ("var/log", "run/log", "var/lib/systemd/pstore", "sys/fs/pstore", "var/crash")
_NAMES = (
    *("kern.log", "messages", "syslog", "dmesg", "console", "dpkg.log", "wtmp", "history.log"),
    *("dnf.log", "dnf.rpm.log", "yum.log", "pacman.log"),
)
_JOURNALS = (".journal", ".journal~")
_SNAPSHOTS = ".snapshots"
_DEPTH, _MOST, _FOLDERS = 2, 400, 400
_HIVES, _SETUP = ("system", "software"), "inf"
_LOGS = ("system.", "application.")
"""The two event logs that tell of starts, drivers, updates and programs; a PC keeps hundreds of
others.
"""


def records_of_system(files: Files) -> list[FileFound] | None:
    """The records of the systems on a volume; None where none is installed there. Raises
    FilesUnavailableError.
    """
    homes = [file for place in _PLACES if (file := files.find(place)) is not None]
    found = [file for home in homes for file in _below(files, home.path, 0) if _is_log(file.path)]
    found += [file for file in _snapshots(files) if file.path.endswith("/info.xml")]
    systems = systems_on(files, 0).systems
    for system in systems:
        if system.family == "nt":
            found += _of_nt(files, system.title)
    return _kept(found) if homes or systems else None


def records_in_folder(files: Files) -> list[FileFound]:
    """Every file of a folder that somebody filled with records."""
    return _kept(_below(files, "/", 0))


def _kept(found: list[FileFound]) -> list[FileFound]:
    return [file for file in found if file.bytes][:_MOST]


def _below(files: Files, folder: str, depth: int) -> list[FileFound]:
    """Plain files in a folder and the folders in it."""
    inside = [file for file in files.listing(folder) if not file.is_link]
    below = [
        each
        for file in inside
        if file.is_folder and depth < _DEPTH
        for each in _below(files, file.path, depth + 1)
    ]
    return [file for file in inside if not file.is_folder] + below


def _is_log(path: str) -> bool:
    name = path.rpartition("/")[2]
    if name.endswith(_JOURNALS):
        return name.startswith("system")
    if "/zypp/history" in path:
        return True
    return "/pstore/" in path or "/crash/" in path or name.startswith(_NAMES)


def _snapshots(files: Files) -> list[FileFound]:
    """What is written down with each snapshot of the root; the snapshots themselves are not gone
    through.
    """
    home = files.find(_SNAPSHOTS)
    return (
        [file for folder in _folders(files, home.path) for file in _inside(files, folder.path)]
        if home
        else []
    )


def _of_nt(files: Files, top: str) -> list[FileFound]:
    """Dumps in the system's folder and one below it; event logs and logs of repairs deeper down."""
    found = [file for file in _inside(files, top) if _ends(file, ".dmp")]
    for folder in _folders(files, top):
        found += [file for file in _inside(files, folder.path) if _ends(file, ".dmp")]
    found += _settings(files, top)
    programs = files.find(f"{top}/system32")
    for folder in _folders(files, programs.path) if programs else []:
        for inner in _folders(files, folder.path):
            name = inner.path.rpartition("/")[2].casefold()
            if name == "logs":
                found += [
                    file
                    for file in _inside(files, inner.path)
                    if _ends(file, ".evtx") and _wanted(file)
                ]
            elif (
                "log" in folder.path.casefold()
            ):  # the automatic repair keeps its log in one of these
                found += [file for file in _inside(files, inner.path) if _ends(file, ".txt")]
    return found


def _settings(files: Files, top: str) -> Iterator[FileFound]:
    """Hives that keep dates, and logs of the set-up of devices."""
    for name in _HIVES:
        found = files.find(f"{top}/system32/config/{name}")
        if found is not None and not found.is_folder:
            yield found
    home = files.find(f"{top}/{_SETUP}")
    if home is not None and home.is_folder:
        yield from (file for file in _inside(files, home.path) if _ends(file, ".log"))


def _inside(files: Files, folder: str) -> Iterator[FileFound]:
    try:
        yield from (
            file for file in files.listing(folder) if not file.is_folder and not file.is_link
        )
    except FilesUnavailableError:  # one damaged folder hides its own files only
        return


def _folders(files: Files, folder: str) -> list[FileFound]:
    try:
        return [file for file in files.listing(folder) if file.is_folder][:_FOLDERS]
    except FilesUnavailableError:
        return []


def _ends(file: FileFound, ending: str) -> bool:
    return file.path.casefold().endswith(ending)


def _wanted(file: FileFound) -> bool:
    return file.path.rpartition("/")[2].casefold().startswith(_LOGS)
