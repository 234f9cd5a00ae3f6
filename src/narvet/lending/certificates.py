"""The certificates of a server whose connections are sealed by TLS."""

from __future__ import annotations

import ssl
from pathlib import Path

from narvet.ground.errors import RequestError
from narvet.lending.wire import SocketWire, Wire, WireClosedError


class Certificates:
    """The server's own certificate and key, and whose certificates clients are to have, if that is asked."""

    def __init__(self, certificate: Path, key: Path, clients: Path | None) -> None:
        self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self._context.minimum_version = ssl.TLSVersion.TLSv1_2
        try:
            self._context.load_cert_chain(certificate, key)
            if clients is not None:
                self._context.load_verify_locations(clients)
                self._context.verify_mode = ssl.CERT_REQUIRED
        except (OSError, ssl.SSLError) as error:
            told = error.strerror or "this is no certificate with its key"
            raise RequestError(f"{certificate}, {key}: {told}; name files in PEM") from None

    def sealed(self, wire: Wire) -> Wire:
        """Return a client's wire sealed by TLS.

        Raises:
            WireClosedError: the client does not come along, or has not the certificate that is asked for.
        """
        if not isinstance(wire, SocketWire):
            raise WireClosedError("this connection cannot be sealed")
        try:
            return SocketWire(self._context.wrap_socket(wire.sock, server_side=True))
        except (OSError, ssl.SSLError) as error:
            raise WireClosedError(f"its certificate does not do: {error}") from None
