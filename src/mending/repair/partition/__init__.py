"""Repairs of partition tables: GPT copies, lost tables and entries, the active flag."""
