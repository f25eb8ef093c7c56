"""What is still believed while a plan runs."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from mending.knowledge import TOGETHER
from mending.plan.objective import Beliefs
from mending.plan.options import Option

Shares = Mapping[str, float]


@dataclass(frozen=True)
class ResidualBelief:
    """Beliefs, and what steps that did not help have left of them.

    Attributes:
        unmended: by cause, the share that the steps so far leave unmended; 1 where it is not named.
        unnamed: by cause, the share that their reports leave unnamed. Causes that are there
            together are known already.
    """

    beliefs: Beliefs
    unmended: Shares = field(default_factory=dict)
    unnamed: Shares = field(default_factory=dict)

    def after(self, *options: Option) -> "ResidualBelief":
        """When these did not help, and their reports named nothing."""
        unmended, unnamed = dict(self.unmended), dict(self.unnamed)
        for option in options:
            for cause, chance in option.fixes.items():
                unmended[cause] = unmended.get(cause, 1.0) * (1.0 - chance)
            for cause, chance in option.finds.items():
                unnamed[cause] = unnamed.get(cause, 1.0) * (1.0 - chance)
        return ResidualBelief(self.beliefs, unmended, unnamed)

    def of(self, name: str) -> float:
        """Chance of one belief that it is still there, and nothing named it."""
        chance = self.beliefs[name]
        if TOGETHER not in name:
            return chance * self.unmended.get(name, 1.0) * self.unnamed.get(name, 1.0)
        mended = 1.0
        for part in name.split(TOGETHER):
            mended *= 1.0 - self.unmended.get(part, 1.0)
        return chance * (1.0 - mended)

    @cached_property
    def total(self) -> float:
        """Chance that the PC does not start yet, and nothing was named."""
        return sum(self.of(name) for name in self.beliefs)

    def fixed_by(self, options: Iterable[Option]) -> float:
        """Chance that these steps make the PC start, of all that was believed at first."""
        then = self.after(*options)
        return sum(
            self.of(name) - ResidualBelief(self.beliefs, then.unmended, self.unnamed).of(name)
            for name in self.beliefs
        )

    @cached_property
    def there(self) -> dict[str, float]:
        """Chance of each cause that it is there now, alone or together with others."""
        found: dict[str, float] = {}
        for name, chance in self.beliefs.items():
            parts = name.split(TOGETHER)
            for part in parts:
                share = self.of(name) if len(parts) == 1 else chance * self.unmended.get(part, 1.0)
                found[part] = found.get(part, 0.0) + share
        return found

    def worth(self, option: Option) -> float:
        """Chance to mend or to name something that is there, whichever is larger, as a share of
        what is left.
        """
        there, total = self.there, self.total or 1.0
        fixes = sum(there.get(cause, 0.0) * chance for cause, chance in option.fixes.items())
        finds = sum(
            self.of(cause) * chance
            for cause, chance in option.finds.items()
            if cause in self.beliefs
        )
        return max(fixes, finds) / total
