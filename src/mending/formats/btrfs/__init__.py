"""Structures of Btrfs volumes."""
