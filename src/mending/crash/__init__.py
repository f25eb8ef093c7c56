"""Crash evidence: what codes and messages mean, the crashes that records tell of, when they began
and with what.
"""
