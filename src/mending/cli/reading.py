"""Evidence attached and read, where an extra that is missing is told and not the end."""

from mending.app.evidence import attach, holds_records, read_case
from mending.app.host import Host
from mending.app.listening import hear_file
from mending.case import Case
from mending.cli.echo import note
from mending.cli.packs import base_codes, base_pack
from mending.model import UsageError


def attach_and_read(
    case: Case, path: str, host: Host, as_disk: bool = False, beside: bool = False
) -> Case:
    """Attach a file; what may tell of crashes is read. The addition counts even where an extra is
    missing: then what it would take is said.
    """
    grown = attach(case, path, host, as_disk, beside)
    if any(each.sort == "other" for each in grown.state.evidence[len(case.state.evidence) :]):
        note(
            f"{path} is kept with the case, but what it is was not recognised: nothing was read"
            " from it.",
            err=True,
        )
    if not holds_records(grown):
        return grown
    try:
        known = read_case(grown, host)
        if known.state.clues != case.state.clues:
            return known
        return hear_file(known, base_pack(), base_codes(), host)
    except UsageError as error:
        note(f"Attached, but not read yet. {error} {error.hint}", err=True)
        return grown
