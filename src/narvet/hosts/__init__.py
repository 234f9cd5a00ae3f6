"""The hosts that keep disk files: what their stores have room for."""
