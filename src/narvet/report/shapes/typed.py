"""The kind of dictionary that shapes are: the one that schemas can be made from, on every Python."""

import sys

if sys.version_info >= (3, 12):
    from typing import TypedDict
else:
    from typing_extensions import TypedDict

__all__ = ["TypedDict"]
