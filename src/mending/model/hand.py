"""Who is at work, told by whoever writes and read by the next one."""

import msgspec


class Hand(msgspec.Struct, frozen=True):
    """Who is at work, for the next one to read.

    Attributes:
        who: program and process, as a person would look for it.
        since: when it began, RFC 3339.
        patience: how long to wait for another, in seconds.
    """

    who: str
    since: str
    patience: float = 5.0
