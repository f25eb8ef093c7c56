"""What this machine and this moment are like: asked here, handed down as a value."""

import os
import sys
from datetime import UTC, datetime
from pathlib import Path

import platformdirs

from mending.app.host import Host
from mending.cli.echo import confirmed, note


def this_host() -> Host:
    """This process, its clock, and where undo points of bare targets live."""
    words = " ".join([Path(sys.argv[0]).name, *sys.argv[1:2]])
    data = Path(platformdirs.user_data_dir("mending", appauthor=False))
    return Host(
        who=f"process {os.getpid()} ({words})",
        clock=_now,
        undo_folder=data / "undo",
        key=data / "key",
        ask=_asked if interactive() else None,
        told=_told,
    )


def interactive() -> bool:
    """Whether a person can be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def _asked(question: str) -> bool:
    return confirmed(question)


def _told(sentence: str) -> None:
    note(sentence, err=True)


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
