"""Sealed volumes: encrypted, in the open on-disk format that Linux guests unlock at their start (LUKS 2, 1.1, and 1).

`records` and `header` are its bytes and what they say as a value, `keys` how a passphrase leads to the volume's key,
`volume` the two headers on a device, `device` what is inside. Cryptography is done by packages, none of it here.
"""
