"""The boot chain, link by link, and the walk along it."""
