"""Names that a family of systems, or a person, means: files, keys and settings that a start needs,
and the files that somebody wants back first.
"""

from mending.knowledge.families.file_kinds import FileWishes, wishes_of
from mending.knowledge.families.nt import NtNames, nt_names

__all__ = ["FileWishes", "NtNames", "nt_names", "wishes_of"]
