"""Long campaigns that try to break Narvet: kills, cuts, refused calls, hostile bytes, races. `make prove` runs them."""
