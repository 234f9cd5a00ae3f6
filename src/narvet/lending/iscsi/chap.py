"""Who an initiator is, and who the target is, by CHAP (RFC 1994; RFC 7143, section 12.1.3)."""

from __future__ import annotations

import hashlib
import hmac
import os
from collections.abc import Mapping
from dataclasses import dataclass, field

from narvet.lending.iscsi.text import bytes_of, number_of

LEAST_SECRET = 12
"""Bytes of a secret, as the RFC asks for (section 9.2.1)."""
_ALGORITHMS = {8: "sha3_256", 7: "sha256", 6: "sha1", 5: "md5"}  # by IANA's numbers, the best one first
_CHALLENGE = 32


class FailedError(Exception):
    """An initiator that does not show who it is."""


@dataclass(frozen=True)
class Logins:
    """Secrets of initiators by their names, and the target's own name and secret if it can show who it is."""

    clients: Mapping[str, str] = field(repr=False)
    own_name: str = ""
    own_secret: str = field(default="", repr=False)


def answer_to(kind: int, number: int, secret: str, challenge: bytes) -> bytes:
    """Return the response to a challenge: a hash over its number, the secret and itself (RFC 1994, 4.1)."""
    made = hashlib.new(_ALGORITHMS[kind], bytes([number]))
    made.update(secret.encode("utf-8", "surrogateescape"))
    made.update(challenge)
    return made.digest()


class Chap:
    """One initiator's exchange, step by step; `is_done` once it has shown who it is."""

    def __init__(self, logins: Logins) -> None:
        self._logins = logins
        self._kind = 0
        self._number = os.urandom(1)[0]
        self._challenge = os.urandom(_CHALLENGE)
        self.is_done = False
        self.name = ""

    def step(self, asked: dict[str, str]) -> list[tuple[str, str]]:
        """Take an initiator's keys of this exchange; return the answers.

        Raises:
            FailedError: it offers no algorithm that is known, or does not know the secret.
        """
        if self.is_done:
            raise FailedError("it begins again")
        if "CHAP_A" in asked:
            offered = {number_of(one) for one in asked["CHAP_A"].split(",")}
            self._kind = next((one for one in _ALGORITHMS if one in offered), 0)
            if not self._kind:
                raise FailedError("it offers no algorithm that is known here")
            challenge = "0x" + self._challenge.hex()
            return [("CHAP_A", str(self._kind)), ("CHAP_I", str(self._number)), ("CHAP_C", challenge)]
        if not self._kind or "CHAP_N" not in asked or "CHAP_R" not in asked:
            return []
        self._check(asked["CHAP_N"], asked["CHAP_R"])
        answers = self._own(asked) if "CHAP_C" in asked or "CHAP_I" in asked else []
        self.is_done, self.name = True, asked["CHAP_N"]
        return answers

    def _check(self, name: str, response: str) -> None:
        secret = self._logins.clients.get(name)
        wanted = answer_to(self._kind, self._number, secret or "no such name", self._challenge)
        if not hmac.compare_digest(wanted, bytes_of(response) or b"") or secret is None:
            raise FailedError(f"it does not know the secret of {name[:60]!r}")

    def _own(self, asked: dict[str, str]) -> list[tuple[str, str]]:
        """Show who the target is; a challenge that is only sent back is not answered (RFC 7143, 9.2.1)."""
        number, challenge = number_of(asked.get("CHAP_I", "")), bytes_of(asked.get("CHAP_C", ""))
        if not self._logins.own_secret:
            raise FailedError("it asks who the target is, for which there is no secret")
        if number is None or number > 255 or not challenge or challenge == self._challenge:
            raise FailedError("its challenge is none")
        response = answer_to(self._kind, number, self._logins.own_secret, challenge)
        return [("CHAP_N", self._logins.own_name), ("CHAP_R", "0x" + response.hex())]
