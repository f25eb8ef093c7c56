"""What the operating system knows of a drive's health, and what lies on it (Linux, sysfs)."""

import os
from pathlib import Path

import msgspec

_BLOCKS, _NUMBERS = Path("/sys/class/block"), Path("/sys/dev/block")


class DriveHealth(msgspec.Struct, frozen=True, kw_only=True):
    """Counts since the drive was connected; None where the system does not tell."""

    state: str | None
    requests_failed: int | None
    requests_timed_out: int | None
    celsius: float | None


def drive_health(path: str) -> DriveHealth:
    """What sysfs tells of a block device."""
    device = (_BLOCKS / Path(path).resolve().name).resolve() / "device"
    if not device.exists():
        device = (_BLOCKS / Path(path).resolve().name).resolve().parent / "device"
    return DriveHealth(
        state=_text(device / "state"),
        requests_failed=_number(device / "ioerr_cnt"),
        requests_timed_out=_number(device / "iotmo_cnt"),
        celsius=_temperature(device),
    )


def lies_on(drive: str, place: str) -> bool:
    """Whether the folder of a file is on a drive, or on a part of it."""
    try:
        number = Path(place).absolute().parent.stat().st_dev
        home = (_NUMBERS / f"{os.major(number)}:{os.minor(number)}").resolve()
        wanted = (_BLOCKS / Path(drive).resolve().name).resolve()
    except OSError:
        return False
    return home == wanted or wanted in home.parents


def _text(path: Path) -> str | None:
    try:
        return path.read_text(errors="replace").strip()[:40] or None
    except OSError:
        return None


def _number(path: Path) -> int | None:
    text = _text(path)
    try:
        return int(text, 0) if text is not None else None
    except ValueError:
        return None


def _temperature(device: Path) -> float | None:
    for sensor in sorted(device.glob("hwmon*/temp1_input")) + sorted(
        device.glob("hwmon/hwmon*/temp1_input")
    ):
        thousandths = _number(sensor)
        if thousandths is not None:
            return thousandths / 1000
    return None
