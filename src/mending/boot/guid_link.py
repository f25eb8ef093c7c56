"""The link that finds the partition table of a UEFI disk: protective record, both copies, their places."""

from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import Disk, GuidTable, TableCopy
from mending.formats import gpt, mbr
from mending.model import Finding, Phase, PhaseState, Severity, Where

_PHASE = Phase.FIRMWARE
_REPAIRS = ("gpt-copy",)


def check_guid_table(disk: Disk, table: GuidTable, then: Link) -> Rung:
    """A protective record, and at least one sound copy."""
    faults = _record_faults(disk)
    if faults and faults[0].severity is Severity.FATAL:
        return failed(faults[0], then if table.believed else None)
    if table.believed is None:
        says = f"Both copies of the GPT are damaged: {_fault(table.primary)} and {_fault(table.backup)}."
        repairs = ("partition-table",)
        return failed(finding("gpt-both-damaged", _PHASE, Severity.FATAL, says, _where(table.primary), repairs))
    notes = [*faults, *_copies(table), *_entries(table.believed), *_size(disk, table)]
    which = "Both copies" if table.primary.sound and table.backup.sound else "One copy"
    says = f"{which} of the GPT {'are' if which[0] == 'B' else 'is'} sound, with {len(table.believed.entries)} entries."
    place = Where(offset=table.believed.lba * disk.source.bytes_per_sector, length=92)
    return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=place, findings=tuple(notes), then=then)


def _record_faults(disk: Disk) -> list[Finding]:
    """Firmware looks at the protective record before it believes that there is a GPT."""
    reading = disk.boot_record
    if reading is None:
        where = Where(offset=0, length=mbr.SIZE)
        return [finding("boot-record-unreadable", _PHASE, Severity.FATAL, disk.unreadable, where)]
    table = Where(offset=mbr.TABLE_OFFSET, length=66)
    if reading.has("signature-missing") or not reading.record.protective:
        says = "The protective record in sector 0 is missing, so firmware does not look for the GPT."
        return [finding("protective-record-missing", _PHASE, Severity.FATAL, says, table, _REPAIRS)]
    if len(reading.record.entries) > 1:
        says = f"Sector 0 lists {len(reading.record.entries) - 1} volumes beside the protective entry: a hybrid."
        return [finding("hybrid-record", _PHASE, Severity.NOTE, says, table)]
    return []


def _copies(table: GuidTable) -> list[Finding]:
    found = []
    for name, copy in (("primary", table.primary), ("backup", table.backup)):
        if not copy.sound:
            says = f"The {name} copy of the GPT is damaged: {_fault(copy)}; the other one is sound."
            found.append(finding(f"gpt-{name}-damaged", _PHASE, Severity.WARNING, says, _where(copy), _REPAIRS))
    if not found and not table.agree:
        says = "The two copies of the GPT are sound and say different things."
        found.append(finding("gpt-copies-differ", _PHASE, Severity.WARNING, says, _where(table.backup)))
    return found


_ENTRY_ENDS = {gpt.GUIDS_ALIKE: "What is named by it may be either of them."}


def _entries(copy: TableCopy) -> list[Finding]:
    """What is odd about single entries, while firmware uses the others."""
    return [
        finding(
            f"gpt-{problem.code}",
            _PHASE,
            Severity.WARNING,
            f"The GPT: {problem.found}; expected {problem.expected}. "
            + _ENTRY_ENDS.get(problem.code, "Firmware passes over such an entry."),
            Where(offset=problem.offset, length=problem.length),
        )
        for problem in copy.problems
    ]


def _size(disk: Disk, table: GuidTable) -> list[Finding]:
    header = table.primary.header
    if header is None or not table.primary.sound:
        return []
    last, named = disk.sectors - 1, header.alternate_lba
    where = Where(offset=disk.source.bytes_per_sector + 32, length=8)
    if named < last:
        says = f"The disk is {last - named} sectors longer than its GPT says."
        return [finding("gpt-disk-larger", _PHASE, Severity.WARNING, says, where)]
    if named > last:
        says = f"The disk is {named - last} sectors shorter than its GPT says."
        return [finding("gpt-disk-smaller", _PHASE, Severity.WARNING, says, where)]
    return []


def _fault(copy: TableCopy) -> str:
    problem = copy.problems[0]
    return f"{problem.code.replace('-', ' ')} (found {problem.found}, expected {problem.expected})"


def _where(copy: TableCopy) -> Where:
    if not copy.problems:
        return Where()
    return Where(offset=copy.problems[0].offset, length=copy.problems[0].length)
