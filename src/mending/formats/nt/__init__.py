"""Formats that only systems of the nt family use: settings hives."""
