"""A volume changed by the driver that the operating system has for it, without a byte of the disk
being written.

The driver is given a file that shows the volume and keeps every write to itself (copy on write).
What it wrote comes back as ranges of bytes, and goes the way of every other change: shown, kept in
an undo point, written, read back. So a driver that fails half-way, a power cut while the volume is
mounted or a kill costs nothing: the disk is as it was.

Three processes, so that nothing outlives the work: this one waits; a server in a mount namespace of
its own shows the file and answers the driver's reads and writes; a worker in a namespace below that
one mounts, changes files and unmounts. Each dies with the one that made it, and its namespace with
every mount in it goes too. The server must not see what is mounted from its file: being the last to
hold it, it would wait in its own end for answers that only it could give.
"""

from mending.source.mounted.copy_on_write import CopyOnWrite
from mending.source.mounted.drivers import drivers_of
from mending.source.mounted.work import ChangedRange, VolumeToMount, work_on

__all__ = ["ChangedRange", "CopyOnWrite", "VolumeToMount", "drivers_of", "work_on"]
