"""Tests. They drive the installed program on files in temporary folders."""

import multiprocessing

from hypothesis import settings

from tests import bare

# The parallel runner works in daemons, which may not have children of their own; the program under
# test reads volumes in a sandboxed process.
multiprocessing.current_process()._config["daemon"] = False

settings.register_profile("mending", deadline=None)  # no test asserts on time
settings.load_profile("mending")

bare.watch()
