"""The door to the description of a guest in OVF, DMTF DSP0243."""
