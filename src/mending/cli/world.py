"""What this machine and this moment are like, asked once and handed down as values."""

import os
import sys
from datetime import UTC, datetime
from pathlib import Path

import platformdirs

from mending.case import Hand


def now() -> str:
    """The time in RFC 3339, UTC, to the second."""
    return datetime.now(UTC).isoformat(timespec="seconds")


def hand() -> Hand:
    """Who is at work: this process."""
    words = " ".join([Path(sys.argv[0]).name, *sys.argv[1:2]])
    return Hand(who=f"process {os.getpid()} ({words})", since=now())


def interactive() -> bool:
    """Whether a person can be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def bare_undo_folder() -> Path:
    """Where undo points of targets without a case live."""
    return Path(platformdirs.user_data_dir("mending", appauthor=False)) / "undo"
