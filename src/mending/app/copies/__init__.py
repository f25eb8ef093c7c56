"""What is taken of a PC to be looked at elsewhere or later: copies of drives, healthy copies,
bundles, and what differs between two of them.
"""
