"""Narvet plans virtual data disks and writes them, laid out so that each guest can use them at once."""

__version__ = "0.1.0"
