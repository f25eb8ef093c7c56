"""What a reader gives back: the record, and everything that is wrong with it."""

from collections.abc import Mapping
from typing import Generic, TypeVar

import msgspec

R_co = TypeVar("R_co", covariant=True)


class Problem(msgspec.Struct, frozen=True):
    """One thing wrong with a structure, before anybody decides how much it matters.

    Attributes:
        code: kebab-case, unique within its format.
        offset: bytes from the start of the source.
        length: bytes.
        found: what is there, for people.
        expected: what the written format asks for, for people.
        values: what code decides by, where the code alone does not tell; never worked out again
            from the words.
    """

    code: str
    offset: int
    length: int
    found: str
    expected: str
    values: Mapping[str, int] = {}


class Reading(msgspec.Struct, Generic[R_co], frozen=True):
    """A record and its problems. A sound structure has none."""

    record: R_co
    problems: tuple[Problem, ...] = ()

    def has(self, code: str) -> bool:
        """Whether a problem with this code was found."""
        return any(problem.code == code for problem in self.problems)
