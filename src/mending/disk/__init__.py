"""Walks that know how formats hang together: disk, tables, volumes, files, installed systems."""
