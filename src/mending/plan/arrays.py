"""Names of the kinds of arrays that planning reckons with. NumPy is loaded when a plan is made, so
these are for type checks only.
"""

from typing import TYPE_CHECKING, TypeAlias

if TYPE_CHECKING:
    import numpy
    from numpy.typing import NDArray

    Floats: TypeAlias = NDArray[numpy.float64]
    """Chances, shares, minutes."""
    Sets: TypeAlias = NDArray[numpy.int64]
    """Sets of steps, each a bit mask."""
    Sizes: TypeAlias = NDArray[numpy.int8]
    Flags: TypeAlias = NDArray[numpy.bool_]
