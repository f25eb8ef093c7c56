"""Repairs of the settings of the nt family: its hives, and what starts with them."""
