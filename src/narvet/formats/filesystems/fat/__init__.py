"""The portable filesystems with a file allocation table: fat32 and exfat, and what they share."""
