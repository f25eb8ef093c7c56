"""Asking a person: single questions, whole conversations, keys without showing them."""
