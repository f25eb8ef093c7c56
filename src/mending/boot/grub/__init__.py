"""GRUB: its core in sectors of its own, its menu file run on paper, the links from one to the other."""
