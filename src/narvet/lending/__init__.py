"""Disks lent over the network: what is lent, to whom, and the servers that do it. One folder a protocol."""
