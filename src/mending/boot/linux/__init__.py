"""A Linux start from its kernel on: kernel, initial file system, root, what init needs, mounts, goal, sign-in."""
