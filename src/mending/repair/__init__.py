"""Offline repairs: one module each, findings in, patches out. `journal` alone writes, flushes and
undoes.
"""
