"""Commands about a disk or a mounted tree."""
