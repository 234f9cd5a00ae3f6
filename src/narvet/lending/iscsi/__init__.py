"""iSCSI, by RFC 7143: a target whose units are lent disks, with sessions of one connection and error recovery level 0.

An initiator logs in (`login`), and then sends SCSI commands (`session`), both as messages of one form (`pdu`).
"""
