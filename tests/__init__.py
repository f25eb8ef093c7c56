"""Tests. They drive the installed program on files in temporary folders."""
