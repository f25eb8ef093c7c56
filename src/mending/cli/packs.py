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
    more = [Path(folder).expanduser() for folder in load_config().packs]
    return knowledge.base_pack(_copies(), more)


def base_codes() -> knowledge.Codes:
    """The tables of codes and messages that Mending comes with."""
    return knowledge.base_codes(_copies())


def _copies() -> Path:
    return platformdirs.user_cache_path("mending", appauthor=False)
