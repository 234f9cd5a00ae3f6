"""The door to a running QEMU guest: its monitor protocol, QMP, on a socket of this machine."""
