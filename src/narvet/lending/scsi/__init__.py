"""SCSI, as far as a lent disk needs it: SAM-5, SPC-4 and SBC-3 of INCITS T10.

A command's bytes become an order (`commands`) that whoever carries SCSI over a wire then does (`orders`); what a disk
tells of itself is in `pages`, why it refuses something in `sense`. All numbers are big-endian.
"""
