"""From what somebody read off a screen to what it means: numbers, names with typos, whole
sentences.
"""

import re
from collections.abc import Iterable, Iterator

import msgspec

from mending.knowledge import Codes, Message, Stop
from mending.model import clean_text, load_rapidfuzz

_NUMBER = re.compile(r"\b(?:0x)?([0-9a-f]{1,16})\b", re.IGNORECASE)
_IN_BRACKETS = re.compile(r"\(([^()]*)\)")
_NAME = re.compile(r"[A-Z][A-Z0-9]*(?:[_ -][A-Z0-9]+)+", re.IGNORECASE)
_FLAGGED = 0x1000_0000
"""Some stops are written with this in front; the code behind it is the same."""
_FAR = 2
"""Rank from which a reading is not shown beside one that is certain."""
_ABOUT = {
    "memory": "memory",
    "drive": "drive",
    "file-system": "drive",
    "boot-volume": "boot-volume",
    "driver": "driver",
    "power-or-heat": "hardware",
    "update": "update",
}
"""By the class that is behind a stop code first: what the code is about."""
_MOST, _NAMES, _LONGEST = 5, 3, 4000
_WHOLE, _FEW = 84.0, 3
"""Similarity from which the whole text is taken for a name; how many names may share the one word
that is typed.
"""
_WORD, _SHORT = 76.0, 2
"""Similarity from which a word is taken for a word of a name, and the length up to which it says
nothing.
"""
_UNCOMMON = 16
"""Letters from which the name of a stop code is no everyday word."""
_TELLING = 7
"""Letters of a word by which a name is known in a sentence."""
_SURE, _NEAR = 92.0, 72.0
"""Similarity (of 100) from which a name is `likely`, and from which it is worth showing."""


class ParameterResult(msgspec.Struct, frozen=True, kw_only=True):
    """One number behind a stop code. `means` is empty where that is not known for certain."""

    number: int
    value: str
    means: str


class CodeMatch(msgspec.Struct, frozen=True, kw_only=True):
    """One reading of the text.

    Attributes:
        kind: `stop`, `status` or `message`.
        code: the number as the screen shows it; empty for messages.
        name: symbolic name of a code; for messages, who prints it.
        phase: where the start fails that shows so; empty where a code does not tell.
        look_first: one sentence for each class of suspects, the usual one first.
        confidence: `certain`, `likely` or `possible`, of the reading; why it was read so is in
            `because`.
        source: where the row is from.
        implies: answers to signs that follow from it.
        causes: what is behind it where it stops a PC, by weight.
        family: the one family of systems that has it; empty: several.
        found: the words of the text that it was read from; empty where they are only like it.
    """

    kind: str
    code: str
    name: str
    says: str
    phase: str
    suspects: tuple[str, ...]
    look_first: tuple[str, ...]
    parameters: tuple[ParameterResult, ...]
    confidence: str = msgspec.field(name="sureness")
    because: str
    source: str
    implies: dict[str, str] = {}
    causes: dict[str, float] = {}
    family: str = ""
    found: str = ""


class CodeResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="code/1"):
    """All readings, the surest first; none where nothing in the text is known."""

    text: str
    matches: tuple[CodeMatch, ...]


def look_up(text: str, codes: Codes) -> CodeResult:
    """What a text means: `7f`, `0x0000007F`, a name, a half-remembered name, a sentence off a
    screen.
    """
    plain = clean_text(text[:_LONGEST]).strip()
    found: dict[tuple[str, str], CodeMatch] = {}
    for match in (*_by_number(plain, codes), *_by_name(plain, codes), *_by_message(plain, codes)):
        key = (match.kind, match.code or match.says)
        if key not in found or _rank(match) < _rank(found[key]):
            found[key] = match
    matches = sorted(_fitting(list(found.values())), key=_rank)
    return CodeResult(text=plain, matches=tuple(matches[:_MOST]))


def _fitting(matches: list[CodeMatch]) -> list[CodeMatch]:
    """Without what fits far worse than the best, and without the notice above a code: it says only
    that something stopped.
    """
    best = min((_rank(match) for match in matches), default=0)
    near = [match for match in matches if best > 0 or _rank(match) < _FAR]
    has_code = any(match.kind == "stop" and _rank(match) < _FAR for match in near)
    return [match for match in near if match.causes or match.code or not has_code]


def _rank(match: CodeMatch) -> int:
    return ("certain", "likely", "possible").index(match.confidence)


def _by_number(text: str, codes: Codes) -> Iterator[CodeMatch]:
    """Numbers outside brackets are codes, those in brackets behind are its parameters."""
    brackets = _IN_BRACKETS.findall(text)
    behind = [number for part in brackets for number in _numbers(part)] if brackets else []
    outside = _IN_BRACKETS.sub(" ", text)
    alone = len(outside.split()) == 1
    for raw in [match.group(0) for match in _NUMBER.finditer(outside)] or behind[:1]:
        digits = raw.lower().removeprefix("0x")
        written = raw.lower().startswith("0x") or len(digits) == 8
        if not (
            written
            or alone
            or re.search(rf"(?:stop|code|error|bug ?check)\W*{re.escape(raw)}\b", text, re.I)
        ):
            continue  # a word of a sentence, a year, a line number
        yield from _readings(raw, written, behind, codes)
        if alone and not written and digits.isdecimal():
            yield from _decimal(int(digits), codes)


def _readings(raw: str, written: bool, behind: list[str], codes: Codes) -> Iterator[CodeMatch]:
    number = int(raw.lower().removeprefix("0x"), 16)
    plain = (
        number - _FLAGGED
        if number not in codes.stops and 0 < number - _FLAGGED < 0x1000
        else number
    )
    why = "the number as it is written" if written else "the number, taken as hexadecimal"
    why = why if plain == number else f"the number, without the flag {_FLAGGED:#x} in front"
    for kind, table in (("stop", codes.stops), ("status", codes.statuses)):
        row = table.get(plain)
        if row is not None:
            yield _match(kind, row, codes, "certain", why, behind, raw)


def _decimal(number: int, codes: Codes) -> Iterator[CodeMatch]:
    row = codes.stops.get(number)
    if row is not None:
        yield _match("stop", row, codes, "possible", "the number, if it was meant as decimal", [])


def _numbers(text: str) -> list[str]:
    return [match.group(0) for match in _NUMBER.finditer(text)]


def _by_name(text: str, codes: Codes) -> Iterator[CodeMatch]:
    """Exact names anywhere in the text, then near ones."""
    rows = [("stop", row) for row in codes.stops.values()] + [
        ("status", row) for row in codes.statuses.values()
    ]
    named = {_key(row.name): (kind, row) for kind, row in rows}
    behind = [number for part in _IN_BRACKETS.findall(text) for number in _numbers(part)]
    whole, spelled = _key(text), f" {_key(text)} "
    exact = {
        name: written
        for name, (kind, row) in named.items()
        if f" {name} " in spelled and (written := _written(row.name, kind, text, name == whole))
    }
    has_message = any(message.expression.search(text) for message in codes.messages)
    for name, written in exact.items():
        if any(name != other and f" {name} " in f" {other} " for other in exact):
            continue  # it is a part of a longer name
        kind, row = named[name]
        confidence = "certain" if _as_shown(written) or not has_message else "likely"
        why = "the name as the screen shows it"
        yield _match(kind, row, codes, confidence, why, behind, written)
    number = _NUMBER.fullmatch(text.strip())
    if exact or number or has_message:
        return
    for score, name in sorted(
        ((_likeness(name, whole, named), name) for name in named), reverse=True
    )[:_NAMES]:
        if score >= _NEAR:
            kind, row = named[name]
            confidence = "likely" if score >= _SURE else "possible"
            yield _match(
                kind, row, codes, confidence, f"the name is like it ({score:.0f} of 100)", behind
            )


def _written(name: str, kind: str, text: str, whole: bool) -> str:
    """How a text spells a name: as the screen does, or, of a stop code whose name is no everyday
    word, with spaces in the middle of a sentence. Empty: it is not meant.
    """
    parts = [re.escape(part) for part in name.removeprefix("STATUS_").split("_")]
    found = re.search(r"(?<![A-Z0-9])" + r"[\W_]+".join(parts) + r"(?![A-Z0-9])", text, re.I)
    if found is None:
        return ""
    told = whole or _as_shown(found.group(0)) or (kind == "stop" and len(name) >= _UNCOMMON)
    return found.group(0) if told else ""


def _as_shown(written: str) -> bool:
    return "_" in written or (written.isupper() and bool(re.search(r"\W", written)))


def _likeness(name: str, text: str, names: Iterable[str]) -> float:
    """How much of a name is in a text, of 100: all of it with typos, its words, or one word that
    few names have.
    """
    words = text.split()
    if len(words) == 1 and len(text) > _SHORT and text in name.split():
        return _NEAR if sum(text in other.split() for other in names) <= _FEW else 0.0
    ratio = load_rapidfuzz().fuzz.ratio
    whole: float = ratio(name, text, score_cutoff=_WHOLE)
    return max(whole, _words_there(name.split(), words))


def _words_there(name: list[str], words: list[str]) -> float:
    """How much of a name is in the text, of 100: its words weighted by their length, typos
    forgiven.

    Two words at least must be there, unless the name has but one; a single word of a sentence is no
    memory of a name. Of a name that is two short words ("not found") nothing else may be said: else
    it is a sentence like any other.
    """
    ratio = load_rapidfuzz().fuzz.ratio
    best = [max((ratio(part, word) for word in words), default=0.0) for part in name]
    there = [score if score >= _WORD else 0.0 for score in best]
    if len(words) < min(2, len(name)) or sum(
        score > 0 for score, part in zip(there, name, strict=True) if len(part) > _SHORT
    ) < min(2, len(name)):
        return 0.0
    weights = [len(part) for part in name]
    covered = sum(score * weight for score, weight in zip(there, weights, strict=True)) / sum(
        weights
    )
    every = all(max(ratio(part, word) for part in name) >= _WORD for word in words)
    if not every and len(name) == 2 and max(weights) < _TELLING:
        return 0.0
    return max(covered, _NEAR + (100 - _NEAR) * covered / 100) if every else covered


def _key(name: str) -> str:
    words = re.sub(r"[^A-Z0-9]+", " ", name.upper()).strip()
    return words.removeprefix("STATUS ") or words


def _by_message(text: str, codes: Codes) -> Iterator[CodeMatch]:
    exact = [message for message in codes.messages if message.expression.search(text)]
    for message in exact:
        found = message.expression.search(text)
        written = found.group(0) if found else ""
        yield _message(message, codes, "certain", "the message is in the text", written)
    if exact or len(text.split()) < 3:
        return
    plain = {number: message.plain for number, message in enumerate(codes.messages)}
    near = load_rapidfuzz().process.extract(
        text.lower(),
        plain,
        scorer=load_rapidfuzz().fuzz.token_set_ratio,
        limit=2,
        score_cutoff=_NEAR,
    )
    for _, score, number in near:
        yield _message(
            codes.messages[number],
            codes,
            "possible",
            f"the message is like it ({score:.0f} of 100)",
        )


def _match(
    kind: str,
    row: Stop,
    codes: Codes,
    confidence: str,
    why: str,
    behind: list[str],
    found: str = "",
) -> CodeMatch:
    meanings = (*row.parameters, *[""] * len(behind))
    parameters = tuple(
        ParameterResult(
            number=number, value=value, means=_meaning(meanings[number - 1], value, codes)
        )
        for number, value in enumerate(behind[:4], 1)
    )
    return CodeMatch(
        kind=kind,
        code=f"0x{row.number:08X}",
        name=row.name,
        says=row.says,
        phase="",
        suspects=row.suspects,
        look_first=tuple(codes.looks[suspect] for suspect in row.suspects),
        parameters=parameters if kind == "stop" else (),
        confidence=confidence,
        because=why,
        source=row.source,
        implies=_implied(kind, row),
        causes=dict(row.causes),
        family=row.family,
        found=found,
    )


def _implied(kind: str, row: Stop) -> dict[str, str]:
    """What a code tells of the screen that shows it."""
    if kind != "stop":
        return {"after-logo": "status-screen"}
    about = _ABOUT.get(row.suspects[0])
    return {"after-logo": "stop-screen", **({"code-about": about} if about else {})}


def _meaning(text: str, value: str, codes: Codes) -> str:
    """What a parameter says; a status code in it is explained, too."""
    status = codes.statuses.get(int(value.lower().removeprefix("0x"), 16) & 0xFFFF_FFFF)
    return (
        f"{text}: {status.name}. {status.says}"
        if text.startswith("status code") and status is not None
        else text
    )


def _message(
    message: Message, codes: Codes, confidence: str, why: str, found: str = ""
) -> CodeMatch:
    return CodeMatch(
        kind="message",
        code="",
        name=message.by,
        says=message.says,
        phase=message.phase,
        suspects=message.suspects,
        look_first=tuple(codes.looks[name] for name in message.suspects),
        parameters=(),
        confidence=confidence,
        because=why,
        source=f"the messages of {message.by}",
        implies=dict(message.implies),
        causes=dict(message.causes),
        family=message.family,
        found=found,
    )
