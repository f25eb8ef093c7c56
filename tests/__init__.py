"""Tests. They drive the installed program on files in temporary folders."""

from hypothesis import settings

settings.register_profile("mending", deadline=None)  # no test asserts on time
settings.load_profile("mending")
