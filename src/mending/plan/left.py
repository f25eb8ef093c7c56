"""What is still believed while a plan runs."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from mending.knowledge import TOGETHER
from mending.plan.objective import Beliefs
from mending.plan.options import Option

Shares = Mapping[str, float]


@dataclass(frozen=True)
class Left:
    """Beliefs, and what steps that did not help have left of them.

    Attributes:
        unmended: by cause, the share that the steps so far leave unmended; 1 where it is not named.
        unnamed: by cause, the share that their reports leave unnamed. Causes that are there together are known already.
    """

    beliefs: Beliefs
    unmended: Shares = field(default_factory=dict)
    unnamed: Shares = field(default_factory=dict)

    def after(self, *options: Option) -> "Left":
        """When these did not help, and their reports named nothing."""
        unmended, unnamed = dict(self.unmended), dict(self.unnamed)
        for option in options:
            for cause, chance in option.fixes.items():
                unmended[cause] = unmended.get(cause, 1.0) * (1.0 - chance)
            for cause, chance in option.finds.items():
                unnamed[cause] = unnamed.get(cause, 1.0) * (1.0 - chance)
        return Left(self.beliefs, unmended, unnamed)

    def of(self, name: str) -> float:
        """Chance of one belief that it is still there, and nothing named it."""
        chance = self.beliefs[name]
        if TOGETHER not in name:
            return chance * self.unmended.get(name, 1.0) * self.unnamed.get(name, 1.0)
        mended = 1.0
        for part in name.split(TOGETHER):
            mended *= 1.0 - self.unmended.get(part, 1.0)
        return chance * (1.0 - mended)

    def beliefs_now(self) -> dict[str, float]:
        """Chance of each belief now; they add up to less than 1."""
        return {name: self.of(name) for name in self.beliefs}

    @property
    def total(self) -> float:
        """Chance that the PC does not start yet, and nothing was named."""
        return sum(self.of(name) for name in self.beliefs)

    def fixed_by(self, options: Iterable[Option]) -> float:
        """Chance that these steps make the PC start, of all that was believed at first."""
        then = self.after(*options)
        return sum(self.of(name) - Left(self.beliefs, then.unmended, self.unnamed).of(name) for name in self.beliefs)

    def worth(self, option: Option) -> float:
        """Chance to mend or to name something that is there, whichever is larger, as a share of what is left."""
        left = self.beliefs_now()
        total = sum(left.values()) or 1.0
        parts = {name: name.split(TOGETHER) for name in left}
        fixes = sum(
            chance * max(option.fixes.get(part, 0.0) * (self.unmended.get(part, 1.0) > 0) for part in parts[name])
            for name, chance in left.items()
        )
        finds = sum(chance * option.finds.get(name, 0.0) for name, chance in left.items())
        return max(fixes, finds) / total
