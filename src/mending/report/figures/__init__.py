"""Pictures of what was found and worked out, with Matplotlib."""
