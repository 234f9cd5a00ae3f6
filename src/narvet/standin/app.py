"""The calls of the service: each may be made twice, as orders have keys, and all else is a state."""

from __future__ import annotations

import base64
import hashlib
import hmac
from pathlib import Path as FilePath
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import Body, Depends, FastAPI, Header, Path, Query, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from fastapi.security import HTTPAuthorizationCredentials, HTTPBearer

from narvet.standin.shelf import MOST_AT_ONCE, NotDoneError, Shelf
from narvet.standin.trouble import KINDS, InTrouble, Kind, Trouble, Wanted
from narvet.standin.words import Fault, Guest, Name, Offer, Order, Place, Size, Stored, Volume

TROUBLE = "/standin/trouble"
"""The call that changes what goes wrong; no service has it."""

Key = Annotated[Name, Path(description="Made by who orders: the same key never orders twice.")]
At = Annotated[int, Query(ge=0, description="Bytes from the volume's start.")]
Length = Annotated[int, Query(gt=0, description="Bytes.")]
Token = Annotated[HTTPAuthorizationCredentials | None, Depends(HTTPBearer(auto_error=False))]
_FAULTS: dict[int | str, dict[str, Any]] = {"default": {"model": Fault, "description": "Why it was not done."}}


def service(shelf: Shelf, trouble: Trouble | None = None, token: str = "") -> FastAPI | InTrouble:
    """Return the application of a service; with `token` only those who know it are answered."""

    def check(credentials: Token) -> None:
        if token and (credentials is None or not hmac.compare_digest(credentials.credentials, token)):
            raise NotDoneError(401, "token", "this needs a token")

    app = FastAPI(
        title="Volumes", version="1", summary="Volumes to order, fill, attach and give back.", redoc_url=None,
        docs_url=None, dependencies=[Depends(check)], responses=_FAULTS,
    )  # fmt: skip

    @app.exception_handler(NotDoneError)
    def not_done(request: Request, error: NotDoneError) -> JSONResponse:
        del request
        return JSONResponse(Fault(fault=error.fault, told=str(error)).model_dump(), error.status)

    @app.exception_handler(RequestValidationError)
    def malformed(request: Request, error: RequestValidationError) -> JSONResponse:
        del request
        where = ".".join(str(part) for part in error.errors()[0]["loc"])
        return JSONResponse(Fault(fault="form", told=f"{where}: {error.errors()[0]['msg']}").model_dump(), 422)

    _offers(app, shelf)
    _volumes(app, shelf)
    _bytes(app, shelf)
    if trouble is None:
        return app
    drawn = trouble

    @app.put(TROUBLE, include_in_schema=False, status_code=204)
    def change(
        rate: float = 0, delay: float = 0, seed: int = 0, kinds: Annotated[list[Kind] | None, Query()] = None
    ) -> None:
        drawn.change(Wanted(rate, tuple(kinds) if kinds else KINDS, delay, seed))

    return InTrouble(app, trouble, TROUBLE)


def openapi() -> dict[str, Any]:
    """Return the calls of a service as an OpenAPI document (its specification, version 3.1)."""
    with TemporaryDirectory() as folder:
        app = service(Shelf(FilePath(folder)))
        return app.openapi() if isinstance(app, FastAPI) else {}


def _offers(app: FastAPI, shelf: Shelf) -> None:
    @app.get("/v1/offer")
    def what_there_is_to_order() -> Offer:
        return shelf.offer()

    @app.get("/v1/guests")
    def machines_that_volumes_can_be_attached_to() -> list[Guest]:
        return shelf.guests()


def _volumes(app: FastAPI, shelf: Shelf) -> None:
    @app.put("/v1/orders/{key}", status_code=202)
    def order_a_volume(key: Key, order: Order) -> Volume:
        """Ordered again by the same key, the same volume is the answer; 410 once it was given back."""
        return shelf.order(key, order)

    @app.get("/v1/volumes")
    def volumes_there_are(
        tag: Annotated[str | None, Query(description="NAME=VALUE; only those with this tag.")] = None,
    ) -> list[Volume]:
        name, _, value = (tag or "").partition("=")
        return [one for one in shelf.volumes() if tag is None or one.tags.get(name) == value]

    @app.get("/v1/volumes/{volume}")
    def a_volume_as_it_is_now(volume: Name) -> Volume:
        return shelf.volume(volume)

    @app.put("/v1/volumes/{volume}/size", status_code=202)
    def enlarge_a_volume(volume: Name, size: Size) -> Volume:
        return shelf.enlarge(volume, size.bytes)

    @app.put("/v1/volumes/{volume}/place", status_code=202)
    def attach_a_volume_to_a_guest_of_its_zone(volume: Name, place: Place) -> Volume:
        return shelf.attach(volume, place)

    @app.delete("/v1/volumes/{volume}/place", status_code=202)
    def detach_a_volume(volume: Name) -> Volume:
        return shelf.detach(volume)

    @app.delete("/v1/volumes/{volume}", status_code=202)
    def give_a_volume_back(volume: Name) -> Volume:
        """It is gone, with its bytes, once it is not known any more (404)."""
        return shelf.give_back(volume)


def _bytes(app: FastAPI, shelf: Shelf) -> None:
    @app.get("/v1/volumes/{volume}/content", response_class=Response)
    def bytes_of_a_volume(volume: Name, at: At, length: Length) -> Response:
        """At most 8 MiB, with a Content-Digest (RFC 9530, sha-256)."""
        data = shelf.read(volume, at, length)
        headers = {"Content-Digest": _digest(data)}
        return Response(data, media_type="application/octet-stream", headers=headers)

    @app.put("/v1/volumes/{volume}/content", status_code=204)
    def write_bytes(
        volume: Name,
        at: At,
        content_digest: Annotated[str, Header(description="As in RFC 9530, sha-256.")],
        data: Annotated[bytes, Body(media_type="application/octet-stream", max_length=MOST_AT_ONCE)],
    ) -> None:
        """At most 8 MiB; they are on stable storage once this is answered. The volume is attached nowhere."""
        if content_digest != _digest(data):
            raise NotDoneError(400, "digest", "the bytes are not those that were sent")
        shelf.write(volume, at, data)

    @app.delete("/v1/volumes/{volume}/content", status_code=204)
    def make_a_range_read_as_zeros(volume: Name, at: At, length: Length) -> None:
        shelf.zero(volume, at, length)

    @app.get("/v1/volumes/{volume}/stored")
    def runs_that_may_hold_something(volume: Name, at: At, length: Length) -> Stored:
        return shelf.stored(volume, at, length)


def _digest(data: bytes) -> str:
    return f"sha-256=:{base64.b64encode(hashlib.sha256(data).digest()).decode()}:"
