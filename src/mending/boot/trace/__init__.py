"""The walk along a whole chain, of a disk or of a mounted tree, and the verdict drawn from it."""

from mending.boot.trace.trace import open_environment, trace_environment, trace_target

__all__ = ["open_environment", "trace_environment", "trace_target"]
