"""The tests: few and strong; those marked kernel and guest leave the judging to real systems."""
