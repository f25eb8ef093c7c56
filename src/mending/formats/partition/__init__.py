"""Partition tables: the MBR with its four entries, and the GPT."""
