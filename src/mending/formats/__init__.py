"""One small room a structure. Each takes a window and gives back a frozen record with a list of
problems.

The rooms do not import each other; what they share (window, layout, problem) is in `model`.
"""
