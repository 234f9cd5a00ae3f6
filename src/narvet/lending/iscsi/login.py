"""The login (RFC 7143, sections 6.3 and 11.12): who an initiator is, which target it wants, and the terms."""

from __future__ import annotations

import struct
from collections.abc import Callable

from narvet.ground.values import Frozen
from narvet.lending.iscsi.chap import Chap, FailedError, Logins
from narvet.lending.iscsi.pdu import CONTINUES, FINAL, MOST_TAKEN, Digests, Op, Pdu, packed, take
from narvet.lending.iscsi.text import MOST_TEXT, Terms, agreed, parsed, written
from narvet.lending.wire import RefusedClientError, Wire

_SECURITY, _OPERATION, _FULL = 0, 1, 3
_MOST_STEPS = 64
PORTAL_GROUP = 1
"""The tag of the only portal group of a target."""

# Status class and detail (section 11.13.5).
_BAD, _NOT_LET_IN, _NOT_FOUND, _NO_VERSION, _MISSING, _NO_TYPE, _NO_SESSION = (
    0x0200, 0x0201, 0x0203, 0x0205, 0x0207, 0x0209, 0x020A,
)  # fmt: skip


class LoggedIn(Frozen):
    """An initiator that is let in; numbers go on from those of the login."""

    initiator: str
    isid: bytes
    is_discovery: bool
    terms: Terms
    command_number: int
    status_number: int


class _RefusedLoginError(Exception):
    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status = status


def log_in(
    wire: Wire, target: str, logins: Logins | None, handle: int, let_in: Callable[[str, bytes], object] | None = None
) -> LoggedIn:
    """Speak with an initiator until it is let in.

    Args:
        wire: its connection.
        target: the name of the only target here.
        logins: who is let in, None for everybody.
        handle: the session's own (TSIH), 1 to 65535.
        let_in: hears the name and the number (ISID) of an initiator that has a session before that is told so.

    Raises:
        RefusedClientError: it is not let in, and has been told so; or it does not keep to the protocol.
        WireClosedError: it has gone.
    """
    talk = _Talk(wire, target, logins, handle, let_in)
    try:
        for _ in range(_MOST_STEPS):
            done = talk.step()
            if done is not None:
                return done
    except _RefusedLoginError as error:
        talk.refuse(error.status)
        raise RefusedClientError(str(error)) from None
    raise RefusedClientError("it negotiates on and on")


class _Talk:
    """One initiator's login."""

    def __init__(
        self,
        wire: Wire,
        target: str,
        logins: Logins | None,
        handle: int,
        let_in: Callable[[str, bytes], object] | None,
    ) -> None:
        self._let_in = let_in
        self._wire = wire
        self._target = target
        self._chap = None if logins is None else Chap(logins)
        self._handle = handle
        self._terms = Terms()
        self._collected = b""
        self._first: Pdu | None = None
        self._request = Pdu.of(bytes(48))
        self._stage = _SECURITY
        self._status_number = 1
        self._initiator = ""
        self._is_discovery = False
        self._is_method_agreed = self._is_length_told = False

    def step(self) -> LoggedIn | None:
        """Take a message and answer it; return what was agreed on once that is all."""
        pdu = self._request = take(self._wire, Digests())
        if pdu.op != Op.LOGIN:
            raise RefusedClientError("it does not begin with a login")
        self._check(pdu)
        self._collected += pdu.data
        if len(self._collected) > MOST_TEXT:
            raise _RefusedLoginError(_BAD, "it sends text without an end")
        if pdu.flags & CONTINUES:
            self._answer(pdu.flags & 0x0C, [])
            return None
        try:
            asked, self._collected = parsed(self._collected), b""
        except RefusedClientError as error:
            raise _RefusedLoginError(_BAD, str(error)) from None
        answers = list[tuple[str, str]]()
        if self._first is None:
            answers += self._begin(pdu, asked)
        stage, following = pdu.flags >> 2 & 3, pdu.flags & 3
        answers += self._secure(asked) if stage == _SECURITY else self._operate(asked)
        goes_on = bool(pdu.flags & FINAL) and (stage == _OPERATION or self._is_let_in)
        self._stage = following if goes_on else stage
        done = self._stage == _FULL
        if done and self._let_in is not None and not self._is_discovery:
            self._let_in(self._initiator, pdu.header[8:14])
        self._answer((FINAL | stage << 2 | following) if goes_on else stage << 2, answers, handle=done)
        if not done:
            return None
        isid, number = pdu.header[8:14], pdu.number(24)
        return LoggedIn(self._initiator, isid, self._is_discovery, self._terms, number, self._status_number)

    @property
    def _is_let_in(self) -> bool:
        return self._chap is None or self._chap.is_done

    def _check(self, pdu: Pdu) -> None:
        """Raise where a message does not go on from the one before."""
        stage, following = pdu.flags >> 2 & 3, pdu.flags & 3
        if pdu.header[3] > 0:
            raise _RefusedLoginError(_NO_VERSION, "it speaks only a version that is not known here")
        first = self._first
        if first is not None and (first.header[8:16] != pdu.header[8:16] or first.number(20, 2) != pdu.number(20, 2)):
            raise _RefusedLoginError(_BAD, "its login goes on as another one")
        is_step = not pdu.flags & FINAL or (following > stage and following != 2 and not pdu.flags & CONTINUES)
        if stage > _OPERATION or not is_step or (first is not None and stage != self._stage):
            raise _RefusedLoginError(_BAD, "its login leaves the order of stages")

    def _begin(self, pdu: Pdu, asked: dict[str, str]) -> list[tuple[str, str]]:
        """Take the first message, which says who wants what."""
        self._first = pdu
        if pdu.number(14, 2):
            raise _RefusedLoginError(_NO_SESSION, "it wants a further connection of a session, which has one only")
        self._initiator = asked.get("InitiatorName", "")
        if not 0 < len(self._initiator.encode("utf-8", "replace")) <= 223:
            raise _RefusedLoginError(_MISSING, "it has no name")
        kind = asked.get("SessionType", "Normal")
        if kind not in ("Normal", "Discovery"):
            raise _RefusedLoginError(_NO_TYPE, "it wants a session of a kind that is not known")
        self._is_discovery = kind == "Discovery"
        if self._is_discovery:
            return []
        if "TargetName" not in asked:
            raise _RefusedLoginError(_MISSING, "it names no target")
        if asked["TargetName"] != self._target:
            raise _RefusedLoginError(_NOT_FOUND, f"it wants {asked['TargetName'][:80]!r}, which is not here")
        return [("TargetPortalGroupTag", str(PORTAL_GROUP))]

    def _secure(self, asked: dict[str, str]) -> list[tuple[str, str]]:
        """Agree on a way to show who it is, and go it."""
        answers = list[tuple[str, str]]()
        method = "None" if self._chap is None else "CHAP"
        if "AuthMethod" in asked:
            if method not in asked["AuthMethod"].split(","):
                raise _RefusedLoginError(_NOT_LET_IN, "it does not offer to show who it is in a way that is known here")
            self._is_method_agreed = True
            answers.append(("AuthMethod", method))
        if self._chap is not None and self._is_method_agreed:
            try:
                answers += self._chap.step(asked)
            except FailedError as error:
                raise _RefusedLoginError(_NOT_LET_IN, str(error)) from None
        elif self._chap is not None and self._request.flags & FINAL:
            raise _RefusedLoginError(_NOT_LET_IN, "it does not show who it is")
        known = ("AuthMethod", "CHAP_A", "CHAP_N", "CHAP_R", "CHAP_I", "CHAP_C")
        self._terms, own = agreed(self._terms, {key: value for key, value in asked.items() if key not in known})
        return answers + own

    def _operate(self, asked: dict[str, str]) -> list[tuple[str, str]]:
        """Agree on the terms, and tell once how much is taken."""
        if not self._is_let_in:
            raise _RefusedLoginError(_NOT_LET_IN, "it does not show who it is")
        self._terms, answers = agreed(self._terms, asked)
        if not self._is_length_told:
            self._is_length_told = True
            answers.append(("MaxRecvDataSegmentLength", str(MOST_TAKEN)))
        return answers

    def _answer(self, flags: int, pairs: list[tuple[str, str]], *, handle: bool = False, status: int = 0) -> None:
        request = self._request
        number = request.number(24)
        header = struct.pack(
            ">BBBB4x6sHI4xIIIH10x",
            Op.LOGIN_RESPONSE, flags, 0, 0, request.header[8:14], self._handle if handle else 0, request.tag,
            self._status_number, number, (number + 1) & 0xFFFFFFFF, status,
        )  # fmt: skip
        self._wire.give(*packed(header, written(pairs), Digests()))
        self._status_number += 1

    def refuse(self, status: int) -> None:
        """Tell an initiator why it is not let in."""
        self._answer(0, [], status=status)
