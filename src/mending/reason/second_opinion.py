"""A second opinion on what was understood: which answers go with which words, learned from labelled
sentences.

A linear model: one logistic regression for each answer over the words of a clause and their pairs,
weighted by how rare they are (inverse document frequency) and brought to length 1. Phrases find an
answer; where the clause has further words and the model holds the answer for unlikely, it is not
taken without asking. The model is made by `make teach` with scikit-learn and applied with NumPy.
"""

from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import pairwise
from pathlib import Path
from typing import Any

from mending.knowledge import BASE_FOLDER

_LEAST = (0.4, 0.2, 0.05)
"""The chance below which an answer is asked about whose phrase has one, two, or more words: a wrong
reading counts five times a missed one, and what is asked is not lost.
"""
_WIDE, _SURE = 0.5, 0.6
"""Share of that which counts for the words between commas, which may tell of other things, too; and
the chance by the words between joints from which those are not asked.
"""


def is_doubtful(chances: Sequence[float], words: int) -> bool:
    """Whether an answer is to be asked about.

    Args:
        chances: by the words between the same joints, and by those between the same commas; none
            where there is nothing beside the phrase.
        words: of the phrase that it was found by.
    """
    least = _LEAST[min(words, len(_LEAST)) - 1]
    if not chances or chances[0] >= _SURE:
        return False
    return chances[0] < least or chances[-1] < least * _WIDE


def base_model() -> Path:
    """The model that Mending comes with."""
    return BASE_FOLDER / "second_opinion.npz"


def features_of(words: Sequence[str]) -> Iterator[str]:
    """The words of a clause, and each with the one behind it."""
    yield from words
    for first, second in pairwise(words):
        yield f"{first} {second}"


class SecondOpinion:
    """What the model says. Args: file: as `make teach` writes it."""

    def __init__(self, file: Path) -> None:
        self._file = file

    def chance(self, words: Sequence[str], answer: str) -> float:
        """How likely a clause of these words says `question=answer`; 1 where the model does not
        know the answer or none of the words.
        """
        model = self._model
        row = model["places"].get(answer)
        if row is None:
            return 1.0
        import numpy as np  # noqa: PLC0415 - lazy: only what is said needs it

        weighed = np.zeros(len(model["rarity"]))
        for feature in set(features_of(words)):
            at = model["features"].get(feature)
            if at is not None:
                weighed[at] = model["rarity"][at]
        length = float(np.sqrt(weighed @ weighed))
        if length == 0.0:
            return 1.0
        span = slice(model["begins"][row], model["begins"][row + 1])
        score = float(model["weights"][span] @ weighed[model["columns"][span]]) / length
        return float(1 / (1 + np.exp(-(score + model["offsets"][row]))))

    @cached_property
    def _model(self) -> dict[str, Any]:
        import numpy as np  # noqa: PLC0415 - lazy: only what is said needs it

        with np.load(self._file, allow_pickle=False) as kept:
            model: dict[str, Any] = {name: kept[name] for name in kept.files}
        model["places"] = {str(answer): at for at, answer in enumerate(model["answers"])}
        model["features"] = {str(feature): at for at, feature in enumerate(model["features"])}
        for name in ("weights", "rarity", "offsets"):
            model[name] = model[name].astype(float)
        return model
