"""Steps that change something, one after another, each whole or not there at all."""
