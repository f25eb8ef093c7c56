"""Where work can be done, and what a step can put at stake."""

from enum import StrEnum


class Place(StrEnum):
    """A place where steps are done; each visit to one costs minutes."""

    OUTSIDE = "outside"
    DESKTOP = "desktop"
    SAFE_MODE = "safe-mode"
    RECOVERY = "recovery"
    RESCUE_STICK = "rescue-stick"
    OWN_STICK = "own-stick"
    FIRMWARE_SETUP = "firmware-setup"
    MAKER_TESTS = "maker-tests"
    BENCH = "bench"


class Risk(StrEnum):
    """The worst that a step may cost the user, from least to most."""

    NOTHING = "nothing"
    SETTINGS = "settings"
    PROGRAMS = "programs"
    FILES = "files"

    @property
    def rank(self) -> int:
        """0 where nothing is at stake, 3 where personal files are."""
        return RISKS.index(self)


RISKS: tuple[Risk, ...] = tuple(Risk)
