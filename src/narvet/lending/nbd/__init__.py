"""NBD, by the document of its project ("The NBD protocol", doc/proto.md): fixed newstyle, in both directions.

A client first agrees with the server on what it takes (`handshake`), then asks for bytes (`transmission`).
"""
