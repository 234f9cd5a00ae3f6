"""One call to a service: made again, with growing waits, until it is answered; every call may be made twice."""

from __future__ import annotations

import ipaddress
import random
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

import httpx

from narvet.ground.errors import ImageError, RefusedError, RequestError, printable
from narvet.services.words import Fault, told

_MOST_ANSWER = 9 << 20
_FIRST_WAIT, _LONGEST_WAIT = 0.05, 5.0  # seconds
_AGAIN = (408, 425, 429, 500, 502, 503, 504)


class NotDoneError(RefusedError):
    """A service does not do something: `fault` is its word for why, empty where it has none."""

    def __init__(self, message: str, fault: str = "", status: int = 0) -> None:
        super().__init__(message)
        self.fault = fault
        self.code = status


@dataclass(frozen=True)
class Waits:
    """How long a service may take: seconds for an answer, for all tries of a call, and for a step; `sleep` waits."""

    answer: float = 30.0
    patience: float = 20.0
    step: float = 3600.0
    sleep: Callable[[float], object] = field(default=time.sleep, repr=False)


class Calls:
    """Calls to the service at a URL; `token` is told with each, and stands in no message.

    Raises:
        RequestError: the URL is none, or a token would go over the network as it is.
    """

    def __init__(self, url: str, token: str = "", waits: Waits | None = None) -> None:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.hostname or parts.query or parts.username:
            raise RequestError(f"{printable(url)}: this is no address of a service; give https://HOST")
        local = _is_local(parts.hostname)
        if token and parts.scheme == "http" and not local:
            raise RequestError(f"{url}: a token must not go over the network as it is; use https")
        if token and not (token.isascii() and token.isprintable()):
            raise RequestError(f"{url}: its token has characters that no token has")
        self.url = url.rstrip("/")
        self._waits = waits or Waits()
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._client = httpx.Client(
            base_url=self.url, headers=headers, timeout=self._waits.answer, trust_env=not local, follow_redirects=False
        )

    def close(self) -> None:
        """End the connections."""
        self._client.close()

    def ask(
        self, method: str, path: str, *, check: Callable[[httpx.Headers, bytes], bool] | None = None, **more: Any
    ) -> bytes:
        """Return the answer to a call; `check` says whether it came as it was sent.

        Raises:
            NotDoneError: the service does not do it, or does not answer in time.
        """
        ends, wait = time.monotonic() + self._waits.patience, _FIRST_WAIT
        while True:
            why = "what it sends comes damaged"
            try:
                status, headers, data = self._once(method, path, **more)
            except httpx.HTTPError as error:
                why = str(error) or type(error).__name__
            else:
                if status < 300 and (check is None or check(headers, data)):
                    return data
                if status >= 300 and status not in _AGAIN:
                    raise self._not_done(status, data)
                if status in _AGAIN:
                    why = f"it says {status}"
                    wait = max(wait, _asked_wait(headers))
            if time.monotonic() + wait > ends:
                raise NotDoneError(f"{self.url}: the service does not answer well: {printable(why)}; try again later")
            self._waits.sleep(wait * random.uniform(0.5, 1))  # noqa: S311 - so that many do not ask at once
            wait = min(2 * wait, _LONGEST_WAIT)

    def _once(self, method: str, path: str, **more: Any) -> tuple[int, httpx.Headers, bytes]:
        with self._client.stream(method, path, **more) as response:
            parts, size = list[bytes](), 0
            for part in response.iter_bytes():
                size += len(part)
                if size > _MOST_ANSWER:
                    raise ImageError(f"{self.url}: the service answers with more than {_MOST_ANSWER} bytes")
                parts.append(part)
            return response.status_code, response.headers, b"".join(parts)

    def _not_done(self, status: int, data: bytes) -> NotDoneError:
        try:
            fault = told(Fault, data, self.url)
        except ImageError:
            return NotDoneError(f"{self.url}: the service says {status}", "", status)
        said = printable(fault.told)[:300]
        return NotDoneError(f"{self.url}: {said}", fault.fault[:40], status)


def _asked_wait(headers: Mapping[str, str]) -> float:
    asked = headers.get("Retry-After", "")
    return min(float(asked), _LONGEST_WAIT) if asked.isascii() and asked.isdigit() and len(asked) < 6 else 0.0


def is_local(url: str) -> bool:
    """Return whether an address is this machine's."""
    return _is_local(urlsplit(url).hostname or "")


def _is_local(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
