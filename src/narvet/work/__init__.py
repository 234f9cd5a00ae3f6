"""The work: facts gathered for a sheet, the steps that a layout asks for, and their carrying out."""
