"""Pools: partitions of several disks joined, and volumes cut from them, in the text format of Linux guests.

`records` and `text` are the format's bytes, `tree` what a pool's text says as values and how it is changed, `member`
one partition of a pool, `allot` which extents become a volume's, `device` a volume as a block device. Changing and
allotting are pure.
"""
