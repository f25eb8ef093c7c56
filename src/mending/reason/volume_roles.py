"""Which volume of a listing is which: the system, the small system partition, recovery, a stick, a
disc, an older installation. By content first, then by size, file system and marks; never by letter.

Of two that may be the same nothing is guessed: that is a question.
"""

from collections.abc import Mapping, Sequence

import msgspec

from mending.reason.volume_list import ListedVolume

ROLES = {
    "system": "the system",
    "boot": "the small system partition",
    "recovery": "recovery",
    "stick": "the stick",
    "disc": "the disc",
    "older": "an older installation",
    "data": "data",
}
"""What a volume may be, in words."""
_MB, _GB = 10**6, 10**9
_SMALL = "it is small, as recovery and the system partition are"
_LEAST_SYSTEM = 15 * _GB
_NT = ({"users", "program"},)
_LINUX = ({"etc", "usr"}, {"etc", "var"})
_DARWIN = ({"library", "applications"}, {"system", "library", "users"})
_INSTALLER = ({"sources", "boot"}, {"sources", "efi"}, {"isolinux"}, {"casper"}, {"live"})
_WITH_SYSTEMS = "ntfs refs ext btrfs xfs f2fs zfs apfs hfs locked group"
"""Of file systems, those that a system may lie on; none where the listing does not tell."""


class VolumeRole(msgspec.Struct, frozen=True, kw_only=True):
    """What a volume is.

    Attributes:
        role: one of `ROLES`; empty where nothing tells.
        why: what says so.
        doubt: a sentence on what does not fit, such as a size.
    """

    volume: ListedVolume
    role: str
    why: str
    doubt: str = ""


class VolumesResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="volumes/1"
):
    """A listing, judged.

    Attributes:
        letters: by role the name of the one volume that has it.
        questions: what has to be asked, by role; with the volumes that may be meant.
    """

    volumes: tuple[VolumeRole, ...]
    letters: Mapping[str, str]
    questions: Mapping[str, tuple[str, ...]]


def judge_volumes(volumes: Sequence[ListedVolume], chosen: Mapping[str, str] = {}) -> VolumesResult:
    """The role of each volume. Args: chosen: by role the volume that somebody named."""
    named = {name.upper(): role for role, name in chosen.items()}
    judged = [_judged(volume) for volume in volumes]
    judged = [
        msgspec.structs.replace(each, role=named[each.volume.name.upper()], why="somebody said so")
        if each.volume.name.upper() in named
        else _not_chosen(each, chosen)
        for each in judged
    ]
    judged = _small_is_recovery(_largest_is_system(judged))
    letters, questions = dict[str, str](), dict[str, tuple[str, ...]]()
    for role in ROLES:
        names = [_named(each.volume) for each in judged if each.role == role]
        alone = next((each.volume.name for each in judged if each.role == role), "")
        if len(names) == 1 and role != "data" and alone:
            letters[role] = alone
        elif len(names) > 1 and role not in {"data", "stick", "disc", "older"}:
            questions[role] = tuple(names)
    small = [each for each in judged if each.why == _SMALL]
    if small and not any(each.role == "boot" for each in judged):
        questions["boot"] = tuple(_named(each.volume) for each in small)
    if not any(each.role == "system" for each in judged):
        questions["system"] = tuple(_named(each.volume) for each in judged if not each.role)
    return VolumesResult(volumes=tuple(judged), letters=letters, questions=questions)


def _not_chosen(each: VolumeRole, chosen: Mapping[str, str]) -> VolumeRole:
    """Where somebody named another volume for a role, this one is an older one of it, or none."""
    if each.role not in chosen:
        return each
    if each.role == "system":
        return msgspec.structs.replace(each, role="older", why="another one is the system")
    return msgspec.structs.replace(each, role="", why="")


def _judged(volume: ListedVolume) -> VolumeRole:
    role, why = _role(volume)
    doubt = ""
    if role == "system" and volume.bytes is not None and volume.bytes < _LEAST_SYSTEM:
        doubt = f"{size_words(volume.bytes)} is too small for a system; is the unit right?"
    return VolumeRole(volume=volume, role=role, why=why, doubt=doubt)


def _role(volume: ListedVolume) -> tuple[str, str]:
    """The role that a volume's own row tells, and why; empty where it tells none."""
    folders, label = {_plain(name) for name in volume.folders}, volume.label.lower()
    size = volume.bytes
    if volume.mount in {"/", "/boot/efi", "/efi", "/cdrom"}:
        role = {"/": "system", "/cdrom": "disc"}.get(volume.mount, "boot")
        return role, f"it is mounted at {volume.mount}"
    if volume.disc:
        return "disc", "it is a disc"
    if any(part <= folders for part in _INSTALLER):
        return "stick", "it holds the folders of an installation medium"
    if volume.removable:
        return "stick", "it can be taken out"
    if any(name.endswith(".old") for name in folders) and not _holds_system(folders):
        return "older", "it holds a folder of an older installation"
    if _holds_system(folders):
        return "system", "the folders of a system are in it"
    if "recovery" in folders or "recovery" in volume.flags or "recover" in label:
        return "recovery", "its folder or label is of recovery"
    if volume.form == "fat" and (size is None or 30 * _MB <= size <= 1200 * _MB):
        return "boot", "it is small and FAT, as firmware wants it"
    if volume.flags & {"esp", "efi"} or "efi" in label.split() or "efi" in folders:
        return "boot", "it is marked as the partition that firmware starts from"
    if volume.form == "ntfs" and size is not None and size <= 700 * _MB:
        is_boot = bool(volume.flags & {"system", "active"}) or "reserved" in label
        return ("boot", "it is small and marked as the system's") if is_boot else ("", _SMALL)
    if volume.form in {"swap", "raw"}:
        return "data", "it holds no files"
    if volume.flags & {"boot", "root"} and size is not None and size >= _LEAST_SYSTEM:
        return "system", "it is marked as the one that runs"
    return "", ""


def _largest_is_system(judged: list[VolumeRole]) -> list[VolumeRole]:
    """Where no row tells of the system: the only large volume of a system's file system is it."""
    if any(each.role == "system" for each in judged):
        return [
            each
            if each.role or each.why
            else msgspec.structs.replace(each, role="data", why="another one is the system")
            for each in judged
        ]
    able = [
        each
        for each in judged
        if not each.role
        and each.volume.form in {"", *_WITH_SYSTEMS.split()}
        and (each.volume.bytes is None or each.volume.bytes >= _LEAST_SYSTEM)
    ]
    if len(able) != 1:
        return judged
    why = "it is the only large one with a system's file system"
    return [
        msgspec.structs.replace(each, role="system", why=why) if each is able[0] else each
        for each in judged
    ]


def _named(volume: ListedVolume) -> str:
    """What a volume is called in a sentence."""
    return volume.name or volume.label or volume.line[:40]


def _small_is_recovery(judged: list[VolumeRole]) -> list[VolumeRole]:
    """A small volume that may be recovery or the system partition is recovery beside the other."""
    if not any(each.role == "boot" for each in judged):
        return judged
    return [
        msgspec.structs.replace(each, role="recovery") if each.why == _SMALL else each
        for each in judged
    ]


def _holds_system(folders: set[str]) -> bool:
    return any(part <= folders for part in (*_NT, *_LINUX, *_DARWIN))


def _plain(folder: str) -> str:
    """A folder's name in small letters; of those for programs only the first word."""
    name = folder.strip("/\\").lower()
    return "program" if name.startswith("program") else name


def size_words(size: int) -> str:
    """A size as people say it."""
    return f"{size / _GB:.3g} GB" if size >= _GB else f"{size / _MB:.3g} MB"
