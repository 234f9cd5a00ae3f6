"""What a Linux guest has: its root, its fstab, its mount points."""
