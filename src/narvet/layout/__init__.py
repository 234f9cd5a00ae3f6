"""The layout: a sheet worked out to the byte. Pure: facts come in as values, every number comes out."""
