"""Bytes and text as every room handles them: views of bytes, layouts, units, checksums, times."""
