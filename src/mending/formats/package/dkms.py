"""What a package of module sources builds: `dkms.conf`.

Source: the manual page dkms(8), "DKMS.CONF": lines of `NAME=value` for a shell; `PACKAGE_NAME`, and
`BUILT_MODULE_NAME[n]` of each module, which for one module may be left out. Nothing is executed:
values that a shell would have to work out are left out.
"""

import re

_ROW = re.compile(
    r"\s*(PACKAGE_NAME|BUILT_MODULE_NAME(?:\[\d+\])?)=[\"']?([\w.+-]+)[\"']?\s*(?:#.*)?"
)


def built_modules(text: str) -> list[str]:
    """Names of the modules that are built."""
    rows = [match.groups() for row in text.splitlines() if (match := _ROW.fullmatch(row))]
    modules = [value for name, value in rows if name != "PACKAGE_NAME"]
    return modules or [value for name, value in rows if name == "PACKAGE_NAME"][:1]
