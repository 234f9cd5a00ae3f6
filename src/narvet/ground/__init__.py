"""The ground floor: sizes, errors, ids, checksums, records, findings and their rules."""
