"""What a network and a service can do wrong, done at random to the calls of a service."""

from __future__ import annotations

import asyncio
import random
import threading
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any, Literal

from narvet.ground.values import Frozen

Kind = Literal["refused", "broken", "half", "slow", "twice", "failed"]
"""Not done, and said so; done, but the answer is that something broke; done, and half of the answer; done late; done
twice; a volume that cannot be made."""
KINDS: tuple[Kind, ...] = ("refused", "broken", "half", "slow", "twice", "failed")

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]


class Wanted(Frozen):
    """What is to go wrong: how often (0 to 1), of which kinds; `delay` is how many seconds each step takes at most."""

    rate: float = 0.0
    kinds: tuple[Kind, ...] = KINDS
    delay: float = 0.0
    seed: int = 0


class Trouble:
    """Draws what goes wrong next; several threads may ask."""

    def __init__(self, wanted: Wanted | None = None) -> None:
        self._guard = threading.Lock()
        self.change(wanted or Wanted())

    def change(self, wanted: Wanted) -> None:
        """Have other things go wrong from now on."""
        with self._guard:
            self._wanted = wanted
            self._dice = random.Random(wanted.seed)  # noqa: S311 - for trouble that can be had again

    def next(self) -> Kind | None:
        """Return what goes wrong with a call, None where nothing does."""
        with self._guard:
            kinds = [one for one in self._wanted.kinds if one != "failed"]
            return self._dice.choice(kinds) if kinds and self._dice.random() < self._wanted.rate else None

    def pause(self) -> tuple[float, bool]:
        """Return the seconds that a step of a volume takes, and whether it fails."""
        with self._guard:
            fails = "failed" in self._wanted.kinds and self._dice.random() < self._wanted.rate / 2
            return self._dice.random() * self._wanted.delay, fails


class InTrouble:
    """An ASGI application whose calls go wrong; the one call that changes what goes wrong never does."""

    def __init__(self, app: App, trouble: Trouble, spared: str) -> None:
        self._app = app
        self._trouble = trouble
        self._spared = spared

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve a call."""
        kind = None
        if scope["type"] == "http" and scope["path"] != self._spared:
            kind = self._trouble.next()
        if kind is None:
            await self._app(scope, receive, send)
            return
        body = await _body(receive)
        if kind == "refused":
            await _answer(send, 503, b'{"fault": "again", "told": "not now"}')
            return
        if kind == "slow":
            await asyncio.sleep(0.2)
        said = await _said(self._app, scope, body)
        if kind == "twice":
            said = await _said(self._app, scope, body)
        if kind == "broken":
            await _answer(send, 500, b"something broke")
            return
        start, content = said
        await send(start)
        if kind == "half":
            await send({"type": "http.response.body", "body": content[: len(content) // 2]})
            return  # less than was announced: the server closes the connection
        await send({"type": "http.response.body", "body": content})


async def _body(receive: Receive) -> bytes:
    parts = []
    while True:
        message = await receive()
        parts.append(message.get("body", b""))
        if not message.get("more_body"):
            return b"".join(parts)


async def _said(app: App, scope: Scope, body: bytes) -> tuple[MutableMapping[str, Any], bytes]:
    """Call an application; return the beginning of its answer, and what follows."""
    given, start, parts = False, dict[str, Any](), list[bytes]()

    async def receive() -> MutableMapping[str, Any]:
        nonlocal given
        if given:
            return {"type": "http.disconnect"}
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    async def send(message: MutableMapping[str, Any]) -> None:
        if message["type"] == "http.response.start":
            start.update(message)
        else:
            parts.append(message.get("body", b""))

    await app(scope, receive, send)
    return start, b"".join(parts)


async def _answer(send: Send, status: int, content: bytes) -> None:
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(content)).encode())]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content})
