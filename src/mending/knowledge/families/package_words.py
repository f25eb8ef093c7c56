"""What the names of packages say, from `packages.toml`."""

import re
from functools import cache
from pathlib import Path

import msgspec

_SPLIT = re.compile(r"[^a-z0-9_]+")


class PackageWords(msgspec.Struct, frozen=True, rename="kebab"):
    """Words in names of packages, in small letters; see the file."""

    kernels: tuple[str, ...]
    whole_kernels: frozenset[str]
    kernel_code: frozenset[str]
    near_kernel: frozenset[str]
    filling: frozenset[str]

    def is_kernel(self, name: str) -> bool:
        """Whether a package is a kernel, which brings all modules."""
        return name in self.whole_kernels or name.startswith(self.kernels)

    def is_kernel_code(self, name: str) -> bool:
        """Whether what it brings runs in the kernel or below it."""
        return self.is_kernel(name) or not self.kernel_code.isdisjoint(_SPLIT.split(name))

    def is_near_kernel(self, name: str) -> bool:
        """Whether it drives hardware from outside of the kernel."""
        return not self.near_kernel.isdisjoint(_SPLIT.split(name))


@cache
def package_words() -> PackageWords:
    """The words."""
    data = (Path(__file__).parent / "packages.toml").read_bytes()
    return msgspec.toml.decode(data, type=PackageWords)
