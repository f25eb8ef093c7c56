"""Earlier moments of a volume, which the nt family keeps in shadow copies, read like the volume
itself.
"""

from mending.disk.shadow.shadow_copies import ShadowCopies, ShadowVolume, shadow_copies

__all__ = [
    "ShadowCopies",
    "ShadowVolume",
    "shadow_copies",
]
