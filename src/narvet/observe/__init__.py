"""What is there: images, stores, roots, as values."""
