"""The knowledge, with its parsed copies in the user's folder for such things."""

from pathlib import Path

import platformdirs

from mending import knowledge


def base_pack() -> knowledge.Pack:
    """The pack that Mending comes with."""
    return knowledge.base_pack(_copies())


def base_codes() -> knowledge.Codes:
    """The tables of codes and messages that Mending comes with."""
    return knowledge.base_codes(_copies())


def _copies() -> Path:
    return platformdirs.user_cache_path("mending", appauthor=False)
