"""The commands: each parses, calls one function of the core and prints."""
