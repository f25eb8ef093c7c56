"""What UEFI firmware remembers: its variables, and the boot options in them."""
