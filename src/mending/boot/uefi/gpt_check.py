"""The link that finds the partition table of a UEFI disk: protective MBR, both copies, their
places.
"""

from mending.boot.chain import CheckResult, Link, failed, finding
from mending.disk.layout import Disk, Gpt, GptCopy
from mending.formats.partition import gpt, mbr
from mending.model import Finding, FindingId, Phase, PhaseState, RepairId, Severity, Where

_PHASE = Phase.FIRMWARE
_REPAIRS = (RepairId.GPT_COPY,)


def check_gpt(disk: Disk, table: Gpt, then: Link) -> CheckResult:
    """A protective MBR, and at least one sound copy."""
    faults = _record_faults(disk)
    if faults and faults[0].severity is Severity.FATAL:
        return failed(faults[0], then if table.believed else None)
    if table.believed is None:
        says = (
            f"Both copies of the GPT are damaged: {_fault(table.primary)} and"
            f" {_fault(table.backup)}."
        )
        repairs = (RepairId.PARTITION_TABLE,)
        return failed(
            finding(
                FindingId.GPT_BOTH_DAMAGED, Severity.FATAL, says, _where(table.primary), repairs
            )
        )
    notes = [*faults, *_copies(table), *_entries(table.believed), *_size(disk, table)]
    which = "Both copies" if table.primary.sound and table.backup.sound else "One copy"
    says = (
        f"{which} of the GPT {'are' if which[0] == 'B' else 'is'} sound, with"
        f" {len(table.believed.entries)} entries."
    )
    place = Where(offset=table.believed.lba * disk.source.bytes_per_sector, length=92)
    return CheckResult(
        phase=_PHASE,
        state=PhaseState.PASSED,
        says=says,
        where=place,
        findings=tuple(notes),
        then=then,
    )


def _record_faults(disk: Disk) -> list[Finding]:
    """Firmware looks at the protective MBR before it believes that there is a GPT."""
    reading = disk.mbr
    if reading is None:
        where = Where(offset=0, length=mbr.SIZE)
        return [finding(FindingId.BOOT_RECORD_UNREADABLE, Severity.FATAL, disk.unreadable, where)]
    table = Where(offset=mbr.TABLE_OFFSET, length=66)
    if reading.has("signature-missing") or not reading.record.protective:
        says = "The protective MBR in sector 0 is missing, so firmware does not look for the GPT."
        return [finding(FindingId.PROTECTIVE_RECORD_MISSING, Severity.FATAL, says, table, _REPAIRS)]
    if len(reading.record.entries) > 1:
        says = (
            f"Sector 0 lists {len(reading.record.entries) - 1} volumes beside the protective entry:"
            " a hybrid."
        )
        return [finding(FindingId.HYBRID_RECORD, Severity.NOTE, says, table)]
    return []


def _copies(table: Gpt) -> list[Finding]:
    found = []
    for name, kind, copy in (
        ("primary", FindingId.GPT_PRIMARY_DAMAGED, table.primary),
        ("backup", FindingId.GPT_BACKUP_DAMAGED, table.backup),
    ):
        if not copy.sound:
            says = f"The {name} copy of the GPT is damaged: {_fault(copy)}; the other one is sound."
            found.append(finding(kind, Severity.WARNING, says, _where(copy), _REPAIRS))
    if not found and not table.agree:
        says = "The two copies of the GPT are sound and say different things."
        differ = FindingId.GPT_COPIES_DIFFER
        found.append(finding(differ, Severity.WARNING, says, _where(table.backup)))
    return found


_ENTRY_FINDINGS = {
    "entry-outside": FindingId.GPT_ENTRY_OUTSIDE,
    "entries-overlap": FindingId.GPT_ENTRIES_OVERLAP,
    gpt.GUIDS_ALIKE: FindingId.GPT_GUIDS_ALIKE,
}


def _entries(copy: GptCopy) -> list[Finding]:
    """What is odd about single entries, while firmware uses the others."""
    found = []
    for problem in copy.problems:
        ending = "Firmware passes over such an entry."
        if problem.code == gpt.GUIDS_ALIKE:
            ending = "What is named by it may be either of them."
        says = f"The GPT: {problem.found}; expected {problem.expected}. {ending}"
        where = Where(offset=problem.offset, length=problem.length)
        found.append(finding(_ENTRY_FINDINGS[problem.code], Severity.WARNING, says, where))
    return found


def _size(disk: Disk, table: Gpt) -> list[Finding]:
    header = table.primary.header
    if header is None or not table.primary.sound:
        return []
    last, named = disk.sectors - 1, header.alternate_lba
    where = Where(offset=disk.source.bytes_per_sector + 32, length=8)
    if named < last:
        says = f"The disk is {last - named} sectors longer than its GPT says."
        return [finding(FindingId.GPT_DISK_LARGER, Severity.WARNING, says, where)]
    if named > last:
        says = f"The disk is {named - last} sectors shorter than its GPT says."
        return [finding(FindingId.GPT_DISK_SMALLER, Severity.WARNING, says, where)]
    return []


def _fault(copy: GptCopy) -> str:
    problem = copy.problems[0]
    return f"{problem.code.replace('-', ' ')} (found {problem.found}, expected {problem.expected})"


def _where(copy: GptCopy) -> Where:
    if not copy.problems:
        return Where()
    return Where(offset=copy.problems[0].offset, length=copy.problems[0].length)
