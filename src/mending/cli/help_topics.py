"""Topics that help explains beyond the commands."""

from collections.abc import Callable, Mapping

import msgspec

from mending.cli.config import base_pack
from mending.model import Phase


class HelpTopic(msgspec.Struct, frozen=True):
    """A title, a few sentences, and rows of a name and what it means."""

    title: str
    says: tuple[str, ...]
    rows: tuple[tuple[str, str], ...]


_PHASES = {
    Phase.POWER: "mains, board, memory, self-test: fans, lights, beeps; no disk is needed",
    Phase.FIRMWARE: "finds a boot device, a table, an ESP or a boot entry",
    Phase.BOOT_RECORD: "boot code, active flag, the volume's boot sector; the EFI loader file",
    Phase.BOOT_MANAGER: "its own files, menu and configuration, and what they name",
    Phase.LOADER: "kernel, initramfs, system hive and the drivers that start with it",
    Phase.KERNEL: "drivers start, the root or system volume is mounted, the first program runs",
    Phase.SESSION: "services, accounts, the programs of a sign-in",
    Phase.DESKTOP: "after sign-in: profile, start-up programs, screen",
}


def _phases() -> HelpTopic:
    return HelpTopic(
        "The phases of starting",
        ("A start passes through them in this order; `trace` says at which one it ends.",),
        tuple((phase.value, _PHASES[phase]) for phase in Phase),
    )


def _places() -> HelpTopic:
    visits = base_pack().visits.values()
    return HelpTopic(
        "The places where steps are done",
        ("Everything worth doing in one place is done in one visit; then comes a test start.",),
        tuple(
            (visit.place.value, f"{visit.how} ({visit.minutes:g} min to get there)")
            for visit in visits
        ),
    )


def _safety() -> HelpTopic:
    return HelpTopic(
        "What is never done",
        ("Reading never writes. Every write has its way back: mending undo TARGET.",),
        (
            ("guards", "a repair that a guard refuses is not done; the message says what lifts it"),
            ("undo point", "on the medium before the first byte of the target changes"),
            ("power cut", "the target is as before, as after, or one `undo` from before"),
            ("proof", "traced again after the write; what is worse is put back by itself"),
            ("the target", "nothing of it is executed or followed out of it"),
            ("keys", "asked for or read from a file; never in records, reports or bundles"),
        ),
    )


def _statuses() -> HelpTopic:
    return HelpTopic(
        "Exit statuses",
        (),
        (
            ("0", "it did its work, whatever it found"),
            ("1", "with --check: what it found is not healthy"),
            ("2", "the words of the command do not fit"),
            ("3", "the input cannot be read, or is not what it says"),
            ("4", "a guard refused; the message says which, and what would lift it"),
            ("5", "a repair failed, and everything was put back"),
            ("6", "something was written, and something was refused or the PC still fails"),
            ("130", "interrupted at the keyboard"),
        ),
    )


TOPICS: Mapping[str, Callable[[], HelpTopic]] = {
    "phases": _phases,
    "places": _places,
    "safety": _safety,
    "statuses": _statuses,
}
"""By name."""
