"""Times as people write them: in the reader's zone, with the weekday."""

from datetime import datetime, tzinfo


def written(at: str | None, zone: tzinfo | None) -> str:
    """A time in RFC 3339 as `Mon 2 Mar 2026, 09:14`; what is no time stays as it is.

    Args:
        zone: None: this machine's.
    """
    try:
        moment = datetime.fromisoformat(at or "")
    except ValueError:
        return at or ""
    there = moment.astimezone(zone) if moment.tzinfo is not None else moment
    return f"{there:%a} {there.day} {there:%b %Y, %H:%M}"


def zone_name(at: str, zone: tzinfo | None) -> str:
    """What the zone is called at that time, and how far it is from UTC."""
    try:
        there = datetime.fromisoformat(at).astimezone(zone)
    except ValueError:
        return "UTC"
    offset = f"{there:%z}"
    away = f"UTC{offset[:3]}:{offset[3:]}" if offset.strip("+-0") else "UTC"
    name = there.tzname() or away
    return away if name == away else f"{name} ({away})"
