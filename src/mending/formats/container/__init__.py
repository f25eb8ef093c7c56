"""Things that hold other things: volume groups, and the archives of an initramfs."""
