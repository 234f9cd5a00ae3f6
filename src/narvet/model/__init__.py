"""The values that describe stores, guests, disks and what lies on them."""
