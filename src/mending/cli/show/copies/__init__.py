"""Copies as a person reads them: healthy copies, what changed since, copies of drives."""
