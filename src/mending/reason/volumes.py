"""A listing of volumes, read aloud or pasted, as rows: name, size, file system, label, folders.

Listings of any family's own tools are tables whose heads say what stands below them, or lines in
which sizes, file systems and devices can be told by their form. Where there are heads, the words of
a row go to the head above them; what has a form of its own is found without.
"""

import re
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from mending.model import UsageError, clean_text

_MOST_LINES, _MOST_LINE = 400, 400
_MOST_BYTES = 10**18
_HEADS = {
    "letter": "ltr letter driveletter caption",
    "name": "name device identifier deviceid",
    "number": "number",
    "label": "label filesystemlabel volumename friendlyname partlabel",
    "system": "fs fstype filesystem filesystemtype format system",
    "size": "size capacity blocks 1k-blocks 1m-blocks",
    "removable": "rm",
    "kind": "type drivetype",
    "mount": "mountpoint mountpoints mounted",
    "other": "info status volume flags used avail available use% start end sectors id boot uuid"
    " fsver fsavail fsuse% maj:min ro on #: healthstatus operationalstatus sizeremaining freespace"
    " free partuuid ###",
}
"""Words that stand over columns, by what is below them."""
_KINDS = {word: kind for kind, words in _HEADS.items() for word in words.split()}
_SPELLED = {
    "fat": "fat fat12 fat16 fat32 vfat msdos",
    "ext": "ext2 ext3 ext4",
    "hfs": "hfs hfs+",
    "disc": "udf cdfs iso9660",
    "locked": "crypto_luks locked",
    "group": "lvm2_member",
    "zfs": "zfs_member",
}
"""By what we call a file system, the ways in which listings write it."""
_ALIKE = "ntfs refs exfat btrfs xfs f2fs apfs swap raw squashfs"
_FORMS = {word: form for form, words in _SPELLED.items() for word in words.split()}
_FORMS |= {word: word for word in _ALIKE.split()}
_UNITS = {"": 1, "b": 1, "k": 1000, "m": 1000**2, "g": 1000**3, "t": 1000**4}
_BINARY = {"": 1, "b": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40}
_SIZE = re.compile(
    r"(?<![\w.:/-])(\d{1,3}(?:[ ,]\d{3})+|\d+(?:[.,]\d+)?)\s?"
    r"(?:(k|m|g|t)(i?b?|igs?|igabytes?|egabytes?|erabytes?)|(bytes?|b))(?![\w%])",
    re.I,
)
_BARE = re.compile(r"(?<![\w.:/-])\d{6,}(?![\w.:/-])")
"""A number of bytes without its unit."""
_LETTER = re.compile(r"(?<![\w/\\.\"=])([A-Za-z]):(?![:\d/]|\\\w)")
_DEVICE = re.compile(
    r"/dev/[\w/.-]+|\b(?:sd[a-z]+\d*|vd[a-z]+\d*|hd[a-z]+\d*|nvme\d+n\d+(?:p\d+)?"
    r"|mmcblk\d+(?:p\d+)?|sr\d+|dm-\d+|md\d+|disk\d+(?:s\d+)?)\b"
)
_PART = re.compile(
    r"((?:/dev/)?[shv]d[a-z]+)\d+|((?:/dev/)?(?:nvme\d+n\d+|mmcblk\d+|disk\d+))[ps]\d+"
)
_PAIR = re.compile(r"\b([A-Z_]+)=\"([^\"]*)\"")
_LABEL = re.compile(r"\b(?:label(?:led)?|called|named)[ :=]+\"?([^\",;]+)", re.I)
_QUOTED = re.compile(r"[\"\u201c\u201d']([^\"\u201c\u201d']{1,40})[\"\u201c\u201d']")
_FOLDERS = re.compile(
    r"\b(?:folders?|holds|contains|inside|in it)\b[ :]+(.+)$|\bwith (.+?) in it\b", re.I
)
_FIRST_LETTER = re.compile(r"\s*([b-hj-zB-HJ-Z])\s+(?=\d|is\b|has\b)")
"""A letter without its colon, as somebody reads it aloud."""
_IDLE = [
    "free",
    "of",
    "is",
    "the",
    "a",
    "an",
    "and",
    "volume",
    "partition",
    "healthy",
    "with",
    "has",
]
_NEAR = 8
"""A size stands at most so many places beside its head."""
Head = tuple[str, int, int]
"""What stands below a head, and from where to where it reaches."""
_MOUNT = re.compile(r"(?<=\s)(/(?:[\w.-]+(?:/[\w.-]+)*)?)\s*$")
_WORD = re.compile(r"\S+")
_NO_WORD = re.compile(r"[\s\-=_|+\u2500-\u257f]*")
_REMOVABLE = re.compile(r"\b(?:removable|usb|stick|thumb|pen ?drive|card)\b", re.I)
_DISC = re.compile(r"\b(?:cd|dvd)(?:-?rom)?\b|\boptical\b", re.I)
_WHOLE = re.compile(r"\bdisk\b", re.I)
_FLAGS = re.compile(r"\b(?:boot|system|esp|efi|hidden|active|recovery|pagefile|root)\b", re.I)


class ListedVolume(msgspec.Struct, frozen=True, kw_only=True):
    """One row of a listing.

    Attributes:
        name: its letter with a colon, or its device; empty where it has neither. line: as it was
            given.
        bytes: None where the row has no size.
        form: of its file system, in our words; empty where it has none.
        folders: those at its top that were named; mount: where it is mounted.
        flags: words beside it that tell what it is for, in small letters.
        removable: it is a stick or card; disc: it is a disc.
    """

    name: str
    line: str
    bytes: int | None = None
    form: str = ""
    label: str = ""
    folders: tuple[str, ...] = ()
    mount: str = ""
    flags: frozenset[str] = frozenset()
    removable: bool = False
    disc: bool = False


def read_listing(text: str) -> tuple[ListedVolume, ...]:
    """The volumes of a listing, in its order.

    Raises:
        UsageError: no line tells of a volume, a letter stands twice, a size has no unit.
    """
    lines = [clean_text(line.expandtabs(), _MOST_LINE) for line in text.splitlines()[:_MOST_LINES]]
    rows = list(_volumes(lines))
    wholes = {_whole_of(volume.name) for volume in rows if _whole_of(volume.name) != volume.name}
    found = [volume for volume in rows if not volume.name or volume.name not in wholes]
    if not found:
        raise UsageError(
            "No line of that tells of a volume.",
            "A line each: letter or device, size, file system, label, folders.",
        )
    names = [volume.name.upper() for volume in found if volume.name.endswith(":")]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise UsageError(f"{twice} stands there twice.", "Each volume has a letter of its own.")
    return tuple(found)


def _volumes(lines: Sequence[str]) -> Iterator[ListedVolume]:
    heads: list[Head] = []
    on_stick: set[str] = set()
    for number, line in enumerate(lines):
        if _NO_WORD.fullmatch(line):
            continue
        if (new := _heads(line)) is not None:
            heads = _ruled(new, lines[number + 1] if number + 1 < len(lines) else "")
            continue
        cells = _cells(line, heads)
        volume = _volume(line, cells, heads)
        if volume is None:
            continue
        whole = _whole_of(volume.name)
        if volume.removable:
            on_stick.add(whole)
        if _is_whole(volume, cells):
            continue
        is_removable = volume.removable or (whole in on_stick and whole != volume.name)
        yield msgspec.structs.replace(volume, removable=is_removable)


def _whole_of(device: str) -> str:
    """The disk that a partition is on, by its name; the name itself of anything else."""
    part = _PART.fullmatch(device)
    return part[1] or part[2] if part is not None else device


def _heads(line: str) -> list[Head] | None:
    """The heads of columns with their places, where a line is one of heads."""
    words = list(_WORD.finditer(line))
    kinds = dict(_KINDS)
    if {word[0].lower() for word in words} & {"number", "identifier"}:
        kinds["name"] = "label"  # what a row is called by stands in a column of its own
    known = [(kinds.get(word[0].lower(), ""), word.start(), word.end()) for word in words]
    telling = [kind for kind, _, _ in known if kind]
    if len(telling) < 2 or len(telling) * 2 < len(words) or _SIZE.search(line):
        return None
    return [(kind or "other", first, last) for kind, first, last in known]


def _ruled(heads: list[Head], below: str) -> list[Head]:
    """Heads as wide as the rules of dashes below them, where there are such."""
    rules = list(re.finditer(r"-{2,}", below)) if _NO_WORD.fullmatch(below) else []
    wide = []
    for kind, first, last in heads:
        rule = next((rule for rule in rules if rule.start() <= first < rule.end()), None)
        wide.append((kind, *(rule.span() if rule else (first, last))))
    return wide


def _cells(line: str, heads: list[Head]) -> dict[str, str]:
    """By what stands over them, the words of a line; those under no head are left out."""
    cells: dict[str, list[str]] = {}
    for word in _WORD.finditer(line):
        over = [
            (min(word.end(), last) - max(word.start(), first), kind) for kind, first, last in heads
        ]
        most, kind = max(over, default=(0, ""))
        if most > 0:
            cells.setdefault(kind, []).append(word[0])
    return {kind: " ".join(words) for kind, words in cells.items()}


def _volume(line: str, cells: dict[str, str], heads: list[Head]) -> ListedVolume | None:
    """A row as a volume; None where it tells of none."""
    pairs = dict(_PAIR.findall(line))
    name = _name(line, cells)
    form = _form(pairs.get("TYPE", "") or cells.get("system", "")) or _form(line)
    size, said = _size(line, heads), _FOLDERS.search(line)
    told = line[: said.start()] if said else line
    is_disc = bool(_DISC.search(told)) or form == "disc" or name.startswith("sr")
    if not (name or (size is not None and (form or heads))):
        return None
    if size is not None and size > _MOST_BYTES:
        raise UsageError(f"No drive is as large as {name or 'that volume'} is said to be.")
    if size is None and (form or name.endswith(":")) and not (heads or pairs):
        _refuse_bare(_without_names(told), name)
    if not (size or form or is_disc or pairs or cells.get("label") or said):
        return None
    mount = _MOUNT.search(line)
    return ListedVolume(
        name=name,
        line=line.strip(),
        bytes=size,
        form=form,
        label=_label(told, pairs, cells, heads),
        folders=_folders(said[1] or said[2]) if said else (),
        mount=mount[1] if mount else "",
        flags=_flags(told),
        removable=bool(_REMOVABLE.search(told)) or cells.get("removable") == "1",
        disc=is_disc,
    )


def _name(line: str, cells: dict[str, str]) -> str:
    """The letter of a row with its colon, or its device; empty without either."""
    if re.fullmatch(r"[A-Za-z]:?\\?", cells.get("letter", "")):
        return f"{cells['letter'][0].upper()}:"
    letter = _LETTER.search(line) or _FIRST_LETTER.match(line)
    if letter is not None:
        return f"{letter[1].upper()}:"
    if cells.get("number", "").isdecimal():
        return f"number {cells['number']}"
    device = _DEVICE.search(cells.get("name", "")) or _DEVICE.search(line)
    return device[0].rstrip(":") if device is not None else ""


def _refuse_bare(words: str, name: str) -> None:
    """Raise UsageError where a size has no unit."""
    number = re.search(r"\b\d{2,5}\b(?!\s*%)", words)
    if number is not None:
        raise UsageError(
            f"What is {number[0]} of {name or 'that volume'} in?", "Give KB, MB, GB or bytes."
        )


def _flags(told: str) -> frozenset[str]:
    """The words of a row that tell what it is for; a lone asterisk marks the active one."""
    words = {word.lower() for word in _FLAGS.findall(_without_names(told))}
    return frozenset(words | ({"active"} if re.search(r"\s\*\s", told) else set()))


def _is_whole(volume: ListedVolume, cells: dict[str, str]) -> bool:
    """Whether a row is a whole disk with parts of its own below it, and no volume."""
    return not volume.form and bool(
        _WHOLE.search(cells.get("kind", "")) or re.match(r"disk\b|model\b", volume.line, re.I)
    )


def _form(text: str) -> str:
    for word in re.findall(r"[\w+]+", text.lower()):
        if word in _FORMS:
            return str(_FORMS[word])
        if word.endswith(("_apfs", "_hfs")):
            return str(word.rpartition("_")[2])
        if word.endswith("locker"):
            return "locked"
    return ""


def _size(line: str, heads: list[Head]) -> int | None:
    """The size of a row: what stands nearest below its head; else by its form, and of three that
    are a beginning, an end and a size the last.
    """
    found = [(_bytes(each), each.span()) for each in _SIZE.finditer(line)]
    found += [(int(each[0]), each.span()) for each in _BARE.finditer(line)] if heads else []
    under = [(first, last) for kind, first, last in heads if kind == "size"]
    if under and found:
        first, last = under[0]
        near = min(found, key=lambda row: max(first - row[1][1], row[1][0] - last))
        return near[0] if max(first - near[1][1], near[1][0] - last) < _NEAR else None
    sizes = [size for size, _ in found]
    if len(sizes) >= 3 and abs(sizes[1] - sizes[0] - sizes[2]) <= sizes[2] // 20:
        return sizes[2]
    if sizes:
        return sizes[0]
    bare = _BARE.search(_without_names(line))
    return int(bare[0]) if bare is not None else None


def _bytes(found: "re.Match[str]") -> int:
    number, unit, rest = found[1], (found[2] or "").lower(), (found[3] or "").lower()
    if re.fullmatch(r"\d{1,3}(?:[ ,]\d{3})+", number) and (not unit or len(number) > 7):
        value = float(re.sub(r"[ ,]", "", number))
    else:
        value = float(number.replace(" ", "").replace(",", "."))
    scale = _BINARY if rest in {"", "ib", "i"} else _UNITS
    return int(value * scale[unit])


def _label(told: str, pairs: dict[str, str], cells: dict[str, str], heads: list[Head]) -> str:
    if "LABEL" in pairs or "PARTLABEL" in pairs:
        return pairs.get("LABEL") or pairs["PARTLABEL"]
    if pairs or heads:
        return cells.get("label", "")
    named = _LABEL.search(told) or _QUOTED.search(told)
    if named is not None:
        return named[1].strip()
    rest = _without_names(told)
    words = [word for word in re.findall(r"[^\W\d_][\w-]*", rest) if not _form(word)]
    return " ".join(word for word in words if word.lower() not in _IDLE)[:40]


def _without_names(line: str) -> str:
    """A line without sizes, letters, devices and pairs."""
    for pattern in (_PAIR, _SIZE, _LETTER, _DEVICE, _BARE):
        line = pattern.sub(" ", line)
    return re.sub(r"\b(?:[0-9a-f]{4,}-)+[0-9a-f]{4,}\b", " ", line, flags=re.I)


def _folders(text: str) -> tuple[str, ...]:
    return tuple(
        part.strip(" .\\/\"'") for part in re.split(r"[,;]| and ", text) if part.strip(" .\\/\"'")
    )


# Which volume of a listing is which: the system, the small system partition, recovery, a stick, a
# disc, an older installation. By content first, then by size, file system and marks; never by
# letter.
#
# Of two that may be the same nothing is guessed: that is a question.


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
