"""What somebody typed at a prompt, told apart: an answer, or one of the words that are understood
everywhere.
"""

from enum import StrEnum

import msgspec

from mending.case.guide.prompts import Prompt, PromptKind

NOTES = {
    "?": "explains",
    "back": "takes the last answer back",
    "skip": "passes over this one for good",
    "later": "puts this one off",
    "ask": "asks what else pays to know before the next step",
    "stop": "stops here; everything so far is recorded",
    "note TEXT": "writes something down",
    "code TEXT": "records a code or message of the screen",
    "volume TEXT": "records a volume read aloud: letter, size, file system, label, folders",
}
"""What is understood at every prompt."""

_YES, _NO = {"y", "yes"}, {"n", "no"}


class ReplyKind(StrEnum):
    """What a line is."""

    ANSWER = "answer"
    EXPLAIN = "explain"
    BACK = "back"
    SKIP = "skip"
    LATER = "later"
    STOP = "stop"
    NOTE = "note"
    CODE = "code"
    VOLUME = "volume"
    ASK = "ask"
    UNCLEAR = "unclear"


class Reply(msgspec.Struct, frozen=True):
    """A line, told apart. `words` are the answer's name, the text, or what was not understood."""

    kind: ReplyKind
    words: str = ""


_ALONE = {
    "?": ReplyKind.EXPLAIN,
    "help": ReplyKind.EXPLAIN,
    "back": ReplyKind.BACK,
    "skip": ReplyKind.SKIP,
    "later": ReplyKind.LATER,
    "ask": ReplyKind.ASK,
    "stop": ReplyKind.STOP,
    "stop here": ReplyKind.STOP,
}
_WITH_TEXT = {"note": ReplyKind.NOTE, "code": ReplyKind.CODE, "volume": ReplyKind.VOLUME}


def parse(prompt: Prompt, line: str) -> Reply:
    """What a line means at this prompt: an answer's number, its name, or the beginning of it where
    only one begins so.
    """
    words = " ".join(line.split())
    low = words.lower()
    first, _, rest = words.partition(" ")
    if low in _ALONE:
        return Reply(_ALONE[low])
    if first.lower() in _WITH_TEXT:
        return Reply(_WITH_TEXT[first.lower()] if rest else ReplyKind.UNCLEAR, rest or words)
    if not words:
        return _empty(prompt)
    if prompt.kind is PromptKind.PUT_BACK and low in _YES | _NO:
        is_back = low in _YES
        return Reply(ReplyKind.ANSWER, "done") if is_back else Reply(ReplyKind.UNCLEAR, words)
    name = _named(prompt, low)
    if name is not None:
        return Reply(ReplyKind.ANSWER, name)
    if prompt.kind is PromptKind.MINUTES and not _is_number(low):
        return Reply(ReplyKind.UNCLEAR, words)
    return Reply(ReplyKind.ANSWER if prompt.free else ReplyKind.UNCLEAR, words)


def _empty(prompt: Prompt) -> Reply:
    if prompt.usual:
        return Reply(ReplyKind.ANSWER, prompt.usual)
    can_pass = prompt.kind in {PromptKind.WORDS, PromptKind.MINUTES}
    return Reply(ReplyKind.SKIP if can_pass else ReplyKind.EXPLAIN)


def _named(prompt: Prompt, low: str) -> str | None:
    """The answer that is meant."""
    names = list(prompt.answers)
    everything = [*names, *prompt.also]
    if low in everything:
        return low
    if prompt.kind is PromptKind.MINUTES:
        return None
    if low.isdecimal() and 0 < int(low) <= len(names):
        return names[int(low) - 1]
    yes_no = {**dict.fromkeys(_YES, 0), **dict.fromkeys(_NO, 1)}
    if low in yes_no and (pair := _yes_and_no(prompt)) is not None:
        return pair[yes_no[low]]
    begins = [name for name in everything if name.startswith(low) and len(low) > 1]
    return begins[0] if len(begins) == 1 else None


def _yes_and_no(prompt: Prompt) -> tuple[str, str] | None:
    """What yes and no mean where one would say so."""
    pairs = [("yes", "no"), ("write", "not-run"), ("done", "not-mended")]
    return next((pair for pair in pairs if set(pair) <= set(prompt.answers)), None)


def _is_number(word: str) -> bool:
    try:
        return 0 <= float(word) < 1e5
    except ValueError:
        return False
