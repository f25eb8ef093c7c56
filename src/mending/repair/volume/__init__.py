"""Repairs of volumes: boot sectors, FAT mirrors, superblocks."""
