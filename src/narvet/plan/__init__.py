"""From a sheet and what is there to what is to be: pure functions."""
