"""The work of each command, without a terminal."""
