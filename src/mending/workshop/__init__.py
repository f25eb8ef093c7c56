"""Makes sample PCs and their faults on the spot: for the demo, the tests and the benchmarks.

All of it is the ticket offices of the Skerrivane Ferries, a line that does not exist.
"""

from mending.workshop.samples import Sample, make_sample, samples

__all__ = ["Sample", "make_sample", "samples"]
