"""Commands about crash evidence and codes."""
