"""Each open format in a folder of its own: images, partition tables, filesystems."""
