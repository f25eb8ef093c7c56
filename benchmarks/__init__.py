"""Ratios measured in one run: `make bench`."""
