"""Heads of encrypted volumes: what they ask for, and how their bytes are turned."""
