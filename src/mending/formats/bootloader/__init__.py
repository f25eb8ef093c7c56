"""Boot managers' own files: GRUB's images and menus, and boot entries in files of their own."""
