"""The service running: it listens on this machine only, until its context is left."""

from __future__ import annotations

import logging
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.ground.errors import RefusedError, RequestError
from narvet.standin.trouble import Wanted

_LOG = logging.getLogger("narvet.standin")


@contextmanager
def stand_in(folder: Path, port: int = 0, token: str = "", trouble: Wanted | None = None) -> Iterator[str]:
    """Run a service whose volumes are kept in a folder, and yield its URL.

    `port` 0 takes one that is free. With `token` only those who know it are answered. `trouble` is what goes wrong.

    Raises:
        RequestError: the folder holds something else, or nothing can listen at the port.
    """
    import uvicorn
    from pydantic import ValidationError

    from narvet.standin.app import service
    from narvet.standin.shelf import Shelf
    from narvet.standin.trouble import Trouble

    drawn = Trouble(trouble)
    try:
        shelf = Shelf(folder, drawn.pause)
        shelf.offer()
        shelf.guests()
    except (OSError, ValidationError, KeyError, TypeError, ValueError) as error:
        told = error.strerror if isinstance(error, OSError) else "its service.toml or state.json is not of its form"
        raise RequestError(f"{folder}: {told}; name a folder that a stand-in made, or a new one") from None
    with _listening(port) as sock:
        config = uvicorn.Config(service(shelf, drawn, token), log_level="critical", lifespan="off", access_log=False)
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, args=([sock],), name="standin", daemon=True)
        thread.start()
        _LOG.info("a stand-in serves %s", folder)
        try:
            yield f"http://127.0.0.1:{sock.getsockname()[1]}"
        finally:
            server.should_exit = True
            thread.join(10)
            if thread.is_alive():
                raise RefusedError(f"{folder}: the service does not end; end the program") from None


@contextmanager
def _listening(port: int) -> Iterator[socket.socket]:
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            sock.bind(("127.0.0.1", port))
            sock.listen(64)
        except OSError as error:
            raise RequestError(
                f"127.0.0.1:{port}: nothing can listen there: {error.strerror}; give another --port"
            ) from None
        yield sock
