"""The repair `boot-code`: boot code for the first 440 bytes, and never a byte behind them."""

from pathlib import Path

from mending.boot.bios import CodeKind, recognise_code
from mending.boot.chain import Trace
from mending.boot.grub import files_kept, find_core, room_for_core, spare_core
from mending.disk.files import FilesUnavailableError
from mending.disk.layout import Disk, Scheme
from mending.formats import grub, mbr
from mending.model import Finding, FindingId, Lba, Patch, RefusedError, RepairId, Window
from mending.repair.base import MendSettings, Proposal, Request

BOOT_CODE = RepairId.BOOT_CODE
_ANSWERS = (
    FindingId.BOOT_CODE_BLANK,
    FindingId.BOOT_CODE_MESSAGE,
    FindingId.BOOT_CODE_UNKNOWN,
    FindingId.VOLUME_BOOT_CODE_BLANK,
)
_STAGE_ONE_PLACES = tuple(
    f"{folder}/i386-pc/boot.img"
    for folder in ("boot/grub", "grub", "boot/grub2", "grub2", "usr/lib/grub")
)
_NO_MANAGER = {CodeKind.BLANK, CodeKind.MESSAGE, CodeKind.UNKNOWN}
_CODE_SAYS = f"boot code, bytes 0 to {mbr.CODE_SIZE - 1} of sector 0"
_CORE_FINDINGS = (
    FindingId.GRUB_CORE_MISSING,
    FindingId.GRUB_CORE_BLANK,
    FindingId.GRUB_CORE_DAMAGED,
    FindingId.GRUB_CORE_OUTSIDE,
    FindingId.GRUB_CORE_UNREADABLE,
)
_OWN_SAYS = (
    "Writes Mending's boot code, which starts the one active volume; table and disk signature stay."
)


def propose_boot_code(request: Request) -> Proposal:
    """The patch for sector 0, and for a core of GRUB's that is gone or damaged.

    Raises:
        RefusedError: not a BIOS disk with a sound table, code that already fits, or neither one
            active volume with a sound boot sector nor GRUB's stage one with a core.
    """
    disk = request.disk
    lost, asked = request.found(*_CORE_FINDINGS), request.found(*_ANSWERS)
    record = _guarded(disk)
    sector = disk.source.read(0, mbr.SIZE)
    kind, core = recognise_code(sector), find_core(disk)
    goes_on = kind not in _NO_MANAGER and not request.found(FindingId.VOLUME_BOOT_CODE_BLANK)
    core_is_gone = core is None and not goes_on and spare_core(disk) is not None
    if lost or core_is_gone:
        return _with_core(disk, record, sector, lost or asked)
    _refuse_if_it_works(kind, core, request.settings)
    code, says = _own_code(disk) if core is None else b"", _OWN_SAYS
    if core is not None:
        code, says = _grub_code(disk, core, sector)
    patch = Patch(0, record.fields.code, code, _CODE_SAYS)
    if patch.before == patch.after:
        raise RefusedError("The boot code is already the one that would be written.")
    return Proposal(
        repair=BOOT_CODE,
        says=says,
        changes=(patch,),
        answers=asked,
        fault_after=_is_checked_by_kind,
    )


def _is_checked_by_kind(_trace: Trace) -> str:
    """Code that was written afresh although it did fit answers no finding; that it is of the right
    kind is seen by the checks behind it.
    """
    return ""


def _with_core(
    disk: Disk, record: mbr.MasterBootRecord, sector: Window, lost: tuple[Finding, ...]
) -> Proposal:
    """The core that the installed system keeps as a file, put where its stage one looks for it."""
    spare, room = spare_core(disk), room_for_core(disk)
    if spare is None or room is None:
        raise RefusedError(
            "GRUB's core is lost, and no whole one was found among the files.", "Install it afresh."
        )
    start, sectors = room
    image = grub.placed_core(spare.data, start)
    if len(image) // mbr.SIZE > sectors:
        raise RefusedError(
            f"GRUB's core needs {len(image) // mbr.SIZE} sectors, and there is room for {sectors}."
        )
    offset = start * disk.source.bytes_per_sector
    before = disk.source.read(offset, len(image)).data
    code, _ = _grub_code(disk, start, sector)
    says = (
        f"Puts GRUB's core from {spare.path} on volume {spare.volume.number} into sectors"
        f" {start} to "
    )
    says += f"{start + len(image) // mbr.SIZE - 1}, and its stage one in front; the table stays."
    patches = [
        Patch(0, record.fields.code, code, _CODE_SAYS),
        Patch(offset, before, image, "GRUB's core"),
    ]
    changed = tuple(patch for patch in patches if patch.before != patch.after)
    return Proposal(repair=BOOT_CODE, says=says, changes=changed, answers=lost)


def own_code() -> bytes:
    """The 440 bytes assembled from `code/boot-code.asm`."""
    return (Path(__file__).parent / "code" / "boot-code.bin").read_bytes()


def _guarded(disk: Disk) -> mbr.MasterBootRecord:
    placed = find_core(disk) is not None or (
        spare_core(disk) is not None and room_for_core(disk) is not None
    )
    if disk.scheme is Scheme.GPT and (not placed or any(volume.efi for volume in disk.volumes)):
        raise RefusedError(
            "This disk carries a GPT; boot code in sector 0 does not start it.", "Look at its ESP."
        )
    if disk.mbr is None:
        raise RefusedError(disk.unreadable, "Copy the drive to an image first.")
    if disk.scheme is Scheme.NONE or disk.mbr.has("signature-missing"):
        raise RefusedError(
            "Sector 0 holds no sound partition table.",
            "The table has to be put back before the code.",
        )
    if disk.mbr.problems:
        problem = disk.mbr.problems[0]
        raise RefusedError(
            f"The partition table is not sound: {problem.found}.", "Mend the table first."
        )
    record = disk.mbr.record
    if any(entry.type == mbr.EFI_SYSTEM for entry in record.entries):
        raise RefusedError(
            "This disk has an EFI system partition, so UEFI starts it without boot code."
        )
    return record


def _refuse_if_it_works(kind: CodeKind, core: Lba | None, settings: MendSettings) -> None:
    fits = kind is CodeKind.GRUB if core is not None else kind is CodeKind.ACTIVE_ENTRY
    if fits and not settings.anyway:
        raise RefusedError(
            "The boot code is of the kind that this disk needs.",
            "Add --anyway to write it afresh.",
            "--anyway",
        )


def _own_code(disk: Disk) -> bytes:
    active = [volume for volume in disk.volumes if volume.active]
    if len(active) != 1:
        raise RefusedError(
            f"{len(active)} entries are active; boot code needs exactly one.",
            "Settle the active flag first.",
        )
    if not active[0].boot.sound:
        raise RefusedError(
            f"The boot sector of the active volume {active[0].number} is not sound, so boot code"
            " alone would not help.",
            "Mend the boot sector first.",
        )
    return own_code()


def _grub_code(disk: Disk, core: Lba, sector: Window) -> tuple[bytes, str]:
    """The installed system's own stage one, told where its core starts; disk parameters in the
    sector are kept.
    """
    path, image = _stage_one(disk)
    placed = grub.STAGE_ONE.patch(
        image, core_lba=core, drive=grub.DRIVE_FROM_FIRMWARE, drive_check=grub.TRUST_HARD_DISK
    )
    start, end = grub.KEEP_PARAMETERS
    code = placed[:start] + sector.data[start:end] + placed[end : mbr.CODE_SIZE]
    return (
        code,
        (
            f"Writes GRUB's stage one from {path}, pointed at its core in sector {core}; the table"
            " stays."
        ),
    )


def _stage_one(disk: Disk) -> tuple[str, bytes]:
    for volume, inside in files_kept(disk):
        try:
            for place in _STAGE_ONE_PLACES:
                found = inside.find(place)
                data = inside.read(found, grub.SIZE) if found is not None else b""
                if found is not None and grub.is_stage_one(Window(data)):
                    return f"{found.path} on volume {volume.number}", data
        except FilesUnavailableError:
            continue  # said below for the disk as a whole
    raise RefusedError(
        "A GRUB core is on this disk, but its stage one was found on no volume that can be read.",
        "Mend that volume first, or install GRUB's own files again from its system.",
    )
