"""The sheet: what a technician asks for, read from TOML and validated."""
