"""The list of files that a package database of plain folders keeps of each package.

Source: the manual page alpm-db (local database, `files`): sections named between per cent signs,
one path a line, from the top without a slash.
"""

_SECTION = "%FILES%"


def read_list(text: str) -> list[str]:
    """Every path of a package, from the top with a slash."""
    found, inside = [], False
    for row in text.splitlines():
        if row.startswith("%") and row.endswith("%"):
            inside = row == _SECTION
        elif inside and row:
            found.append(f"/{row}")
    return found
