"""The guests: their roots, and the entries that make mounts persist."""
