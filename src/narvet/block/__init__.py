"""Block devices: the one way Narvet reads and writes the bytes of a disk, whatever lies below."""
