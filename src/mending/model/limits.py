"""Every bound in one place, each with the reason for its size."""

WINDOW_BYTES = 16 * 1024 * 1024
"""Most bytes one read may ask for: no structure is larger, and a damaged length field must not cost
memory.
"""

CHAIN_CHECKS = 32
"""Most rungs of one trace; the longest chain we know has under ten."""

EBR_TABLES = 128
"""Twice what any partitioning program makes; a chain of damaged tables must end."""

CORE_SEARCH_SECTORS = 2048
"""How far behind the MBR a boot manager's core is looked for: usual first partitions start at 63 or
2048.
"""

EVIDENCE_BYTES = 64 * 1024 * 1024
"""Largest evidence file that is copied into a case; larger ones are named, not copied."""

RECORD_BYTES = 512 * 1024 * 1024
"""Largest record of a case that is read; a case of a thousand traces has some tens of MiB."""

LOADER_FILES = 24
"""Most loader files looked at on one volume; a usual one holds under ten."""

FOLDER_DEPTH = 6
"""How deep loader files are looked for; firmware menus do not go deeper."""

FILE_BYTES = 8 * 1024 * 1024
"""Most bytes read of a file of settings inside a volume; a longer one is said to be too long."""

IDENTITY_RANGES = 8
"""How many ranges of a target are hashed to know it again."""

IDENTITY_RANGE_BYTES = 4096
"""Length of each of them."""

REHEARSAL_INSTRUCTIONS = 5_000_000
"""An MBR and a volume boot sector together take some thousands of instructions; more is a loop."""

TRACE_INSTRUCTIONS = 40_000
"""Ten times what a volume's code takes until it has read outside or inside its volume; a trace must
stay quick.
"""

TABLE_BYTES = 4 * 1024 * 1024
"""How much of a FAT is compared and walked: every EFI system partition fits, and a large stick
costs no minute.
"""

FOLDER_ROWS = 100_000
"""Most rows of folders walked to judge a FAT; system partitions hold hundreds."""

BITMAP_BYTES = 2 * 1024 * 1024
"""Largest bitmap of clusters that is counted: one of 64 GiB in clusters of 4 KiB."""

LINKS = 16
"""Most links followed on the way to one file; Linux itself stops at forty."""

LOADED_BYTES = 256 * 1024 * 1024
"""Largest file that firmware or a boot manager loads: an initramfs, or a kernel or manager with
everything inside; most have under a hundred MiB.
"""

LARGEST_CHANGE = 256 * 1024 * 1024
"""Most bytes kept of one side of a change; kernels and initramfs images are the largest files that
are put back.
"""

LARGEST_RESTORED = 256 * 1024 * 1024
"""Largest file that is compared with a package database; kernels have under twenty MiB."""

LARGEST_PACKAGE = 512 * 1024 * 1024
"""Largest package that files are taken from; kernels' packages have about a hundred MiB."""

UNPACKED_PACKAGE = 1024 * 1024 * 1024
"""Most bytes that come out of one package; kernels' packages unpack to some hundred MiB."""

EXPANDED_LEAST = 64 * 1024 * 1024
"""A packed log may always grow to this much."""

EXPANDED_TIMES = 200
"""How many times its size a packed log may grow: text of logs packs ten to a hundred times, a trap
ten thousand.
"""

EXPANDED_MOST = 1024 * 1024 * 1024
"""Most bytes that come out of one packed log; more would cost minutes."""

HIVE_BYTES = 256 * 1024 * 1024
"""Largest settings hive that is read; system hives have ten to thirty MiB, those of programs up to
two hundred.
"""

HIVE_CELLS_BYTES = 24 * 1024 * 1024
"""Up to this length every cell of a hive is looked at; of longer ones the bins, for time."""

TABLE_FILE_BYTES = 128 * 1024 * 1024
"""Largest table of events that is held in memory as a whole; larger exports are given as XML or as
a binary log.
"""
