"""Codes and messages that somebody read off a screen, as the same findings that a dump gives."""

from collections import Counter
from collections.abc import Iterator, Sequence

import msgspec

from mending.crash.lookup import look_up
from mending.knowledge import Codes
from mending.model import Finding, Phase, Severity

_SURE = {"certain", "likely"}
_SCATTERED = 3
"""From so many different codes, none of them twice, they are said to differ each time."""
STOP = "stop"
SCREEN = "the screen showed"
"""How what was read off a screen begins, so that it is not taken for a record."""


class SeenCode(msgspec.Struct, frozen=True, kw_only=True):
    """A code or message that a screen showed.

    Attributes:
        kind: `stop`, `status` or `message`.
        code: the number as screens show it; empty for messages.
        name: of a code; of a message who prints it.
        suspects: classes of what is behind it, the usual one first.
        phase: where the start fails that shows so; empty where it does not tell.
        implies: answers to signs that follow from it.
        causes: what is behind it where it stops a PC, by weight; none in older records.
        family: the one family of systems that has it; empty: several.
        found: the words that it was read from.
    """

    kind: str
    code: str
    name: str
    says: str
    suspects: tuple[str, ...]
    phase: str = ""
    implies: dict[str, str] = {}
    causes: dict[str, float] = {}
    family: str = ""
    found: str = ""

    @property
    def words(self) -> str:
        """What names it on a screen, or in a few words."""
        return f"{self.code} {self.name}" if self.code else self.says


def codes_in(text: str, codes: Codes) -> tuple[SeenCode, ...]:
    """The codes and messages in a text of which it is certain or likely that they are meant.

    Names that are only like a code count if nothing better was found, and the best of them alone.
    """
    matches = [match for match in look_up(text, codes).matches if match.confidence in _SURE]
    certain = [match for match in matches if match.confidence == "certain"] or matches[:1]
    return tuple(
        SeenCode(
            kind=match.kind,
            code=match.code,
            name=match.name,
            says=match.says,
            suspects=match.suspects,
            phase=match.phase,
            implies=dict(match.implies),
            causes=dict(match.causes),
            family=match.family,
            found=match.found,
        )
        for match in certain
    )


def clues_of_codes(seen: Sequence[SeenCode]) -> Iterator[Finding]:
    """What seen codes point to: the class of most of them, and whether they differ each time.

    What names its causes tells by these (`Evidence.codes`), and of what is left a message that
    implies answers to signs tells by those.
    """
    pointing = [
        code
        for code in seen
        if code.suspects and not code.causes and (code.code or not code.implies)
    ]
    if pointing:
        yield _pointing(pointing)
    stops = [code.code for code in seen if code.kind == STOP]
    if len(stops) >= _SCATTERED and len(set(stops)) == len(stops):
        yield _clue("scattered-codes", "", f"{SCREEN} {len(stops)} different stop codes")


def _pointing(codes: Sequence[SeenCode]) -> Finding:
    named = Counter((code.suspects[0], code.words) for code in codes)
    (first, _), count = named.most_common(1)[0]
    example = next(code for code in codes if code.suspects[0] == first)
    times = f"{count} times " if count > 1 else ""
    says = f"{SCREEN} {times}{example.words}"
    says += f": {example.says}" if example.code else ""
    return _clue(f"code-suggests-{first}", example.phase, says)


def _clue(name: str, phase: str, says: str) -> Finding:
    return Finding(
        id=name,
        phase=Phase(phase) if phase else Phase.KERNEL,
        severity=Severity.WARNING,
        says=says,
    )
