"""How well what callers say is understood: the labelled sentences in two halves, and those
written without a look at the phrases.

A sentence is right when all that must be understood is, and nothing beyond what may; it is wrong
when anything beyond is taken without asking. The halves have the same topics and forms: sentences
are sorted by the first question that they answer and by their form, then dealt out in turn.
"""

from collections.abc import Sequence
from itertools import groupby
from pathlib import Path
from typing import NamedTuple

from mending.knowledge import base_codes, base_pack
from mending.reason import Understanding

_TESTS = Path(__file__).parents[1] / "tests"
MOST_WRONG, LEAST_RIGHT = 0.02, 0.8
_WORST = 10
HALF = Path(__file__).with_name("one_half.npz")
"""The model that was made without the other half of the sentences."""
_UNDERSTANDING = Understanding(base_pack(), base_codes())


class Labelled(NamedTuple):
    """A sentence with the answers that must and that may be understood (`question=answer`)."""

    said: str
    must: frozenset[str]
    may: frozenset[str]


class Score(NamedTuple):
    """Shares of sentences, and those that are not right, the wrong ones first."""

    right: float
    wrong: float
    worst: list[str]


def read(name: str) -> list[Labelled]:
    """The labelled sentences of a file beside the tests."""
    lines = (_TESTS / name).read_text(encoding="utf-8").splitlines()
    rows = [
        [part.strip() for part in f"{line}||".split("|")[:3]] for line in lines if line[0] != "#"
    ]
    return [
        Labelled(said, frozenset(must.split()), frozenset(may.split())) for said, must, may in rows
    ]


def halves(rows: Sequence[Labelled]) -> tuple[list[Labelled], list[Labelled]]:
    """Dealt out in turn within each topic and form: what phrases are written for, and a test."""
    train, test = [], []
    ordered = sorted(rows, key=lambda row: (*_kind(row), row.said))
    for _, group in groupby(ordered, _kind):
        dealt = list(group)
        train += dealt[::2]
        test += dealt[1::2]
    return train, test


def _kind(row: Labelled) -> tuple[str, bool, bool, bool]:
    topic = min(row.must, default="").partition("=")[0]
    words = set(row.said.lower().replace("'", "").split())
    is_denied = bool(words & {"no", "not", "never", "nothing", "dont", "doesnt", "wont", "cant"})
    return topic, is_denied, "," in row.said, len(row.must) > 1


def heard(text: str, understanding: Understanding = _UNDERSTANDING) -> frozenset[str]:
    """What is taken from a text without asking, as `question=answer`."""
    statement = understanding.of(text).sure
    return frozenset(
        f"{each.question}={each.answer}" for each in (*statement.signs, *statement.facts)
    )


def score(rows: Sequence[Labelled], understanding: Understanding = _UNDERSTANDING) -> Score:
    """How many of the sentences are right and wrong, and which are not right."""
    right, wrong, missed = 0, [], []
    for row in rows:
        got = heard(row.said, understanding)
        beyond = got - row.must - row.may
        if beyond:
            wrong.append(f"wrong   {row.said}: {' '.join(sorted(beyond))}")
        elif row.must <= got:
            right += 1
        else:
            missed.append(f"missed  {row.said}: {' '.join(sorted(row.must - got))}")
    return Score(right / len(rows), len(wrong) / len(rows), [*wrong, *missed])


def run() -> None:
    """Print the shares, and the ten worst of what was not seen before."""
    train, test = halves(read("sentences.txt"))
    unseen = read("sentences_unseen.txt")
    half = Understanding(base_pack(), base_codes(), HALF)
    for name, rows, understanding in (
        ("one half", train, half),
        ("the other half", test, half),
        ("unseen", unseen, _UNDERSTANDING),
    ):
        found = score(rows, understanding)
        is_reached = found.wrong <= MOST_WRONG and found.right >= LEAST_RIGHT
        print(
            f"{name:<16}{len(rows):>5} sentences: right {found.right:.1%}"
            f" (wanted {LEAST_RIGHT:.0%}), wrong {found.wrong:.1%} (at most {MOST_WRONG:.0%})"
            f" {'ok' if is_reached else 'not reached'}"
        )
    print("\n".join(found.worst[:_WORST]))


if __name__ == "__main__":
    run()
