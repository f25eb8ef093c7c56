"""The system of the nt family that a repair means."""

from mending.boot.nt import NtSettings, NtStart, read_settings
from mending.model import RefusedError
from mending.repair.base import Request


def nt_homes(request: Request) -> list[NtStart]:
    """Every system of the family on the disk, or the one that the person named."""
    environment, wanted = request.environment, request.settings.system
    return [
        NtStart(environment, volume, system.title)
        for volume in environment.volumes
        if not volume.extended and environment.inside(volume) is volume
        for system in environment.contents(volume).systems
        if system.family == "nt" and wanted in {None, volume.number}
    ]


def nt_home(request: Request) -> NtStart:
    """The one system that is meant.

    Raises:
        RefusedError: there is none, or several and nobody said which.
    """
    homes = nt_homes(request)
    if not homes:
        raise RefusedError(
            "No system of the nt family can be read here.", "Unlock or mend it first."
        )
    if len(homes) > 1:
        listed = " or ".join(f"{home.root} on volume {home.volume.number}" for home in homes)
        raise RefusedError(
            f"Which system is meant: {listed}?", "Add --system VOLUME.", "--system VOLUME"
        )
    return homes[0]


def nt_settings(start: NtStart) -> NtSettings:
    """The settings of a system as its kernel would see them.

    Raises:
        RefusedError: its hive cannot be used.
    """
    settings = read_settings(start)
    if settings is None:
        raise RefusedError(
            f"The system hive of {start.root} cannot be used.", "Mend the hive first."
        )
    return settings
