"""Where a system of the nt family keeps what is current: the control set that it selects, and the
keys below which makers keep what belongs to the present version.
"""

from collections.abc import Iterator

from mending.disk.hives.hive import Key

_MOST_SYSTEMS = 1000
"""A maker has few systems; a key with more is of another kind, such as classes of files."""


def control_set(root: Key) -> Key | None:
    """The control set that the system hive selects; None where it names none, or it is not there.

    Raises:
        DamagedHiveError
    """
    select = root.child("Select")
    number = select.number("Current") if select is not None else None
    return root.child(f"ControlSet{number:03}") if number is not None else None


def current_versions(root: Key) -> Iterator[Key]:
    """The keys of what is current in the hive of programs, those of programs for smaller machines,
    too.

    Raises:
        DamagedHiveError
    """
    for maker in root.children():
        if maker.cell.subkeys > _MOST_SYSTEMS:
            continue
        for system in maker.children():
            current = system.child("CurrentVersion")
            if current is not None:
                yield current
                continue
            for inner in system.children():
                current = inner.child("CurrentVersion")
                if current is not None:
                    yield current
