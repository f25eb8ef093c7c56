"""File systems: boot sectors, superblocks, file tables, and the signatures of kinds that are only
recognised.
"""
