"""Names that a family of systems, or a person, means: files, keys and settings that a start needs,
the files that somebody wants back first, and what names of packages say.
"""

from mending.knowledge.families.file_kinds import FileWishes, wishes_of
from mending.knowledge.families.nt import NtNames, nt_names
from mending.knowledge.families.package_words import PackageWords, package_words

__all__ = ["FileWishes", "NtNames", "PackageWords", "nt_names", "package_words", "wishes_of"]
