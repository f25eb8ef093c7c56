"""The knowledge, with its parsed copies in the user's folder for such things."""

from pathlib import Path

import platformdirs

from mending import knowledge
from mending.cli.config import load_config


def base_pack() -> knowledge.Pack:
    """The pack that Mending comes with, and the rows of one's own that the settings name.

    Raises:
        InputError: a row of one's own, or the settings, are wrong.
    """
    return knowledge.base_pack(_copies(), own_packs())


def own_packs() -> list[Path]:
    """The folders with rows of one's own, in the order in which they come on top: those that the
    settings name, then the one with the shop's own words.

    Raises:
        InputError: the settings are wrong.
    """
    named = [Path(folder).expanduser() for folder in load_config().packs]
    own = own_words()
    file = own / "cards.toml"
    return [*named, own] if file.exists() or file.is_symlink() else named


def own_words() -> Path:
    """Where the shop's own words about steps are kept."""
    return platformdirs.user_config_path("mending", appauthor=False) / "own"


def base_codes() -> knowledge.Codes:
    """The tables of codes and messages that Mending comes with."""
    return knowledge.base_codes(_copies())


def _copies() -> Path:
    return platformdirs.user_cache_path("mending", appauthor=False)
