"""What a Windows guest has: its letters, its folder mounts, its registry values."""
