"""The most out of a failing drive: what matters first, no byte read twice, and the copy read again.

The growing image and its record, which open files, are `source.imaging`.
"""
