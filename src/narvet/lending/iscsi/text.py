"""Keys and values in text (RFC 7143, section 6): read, written, and each agreed on by its rule (section 13)."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable

from narvet.ground.values import Frozen, field, replace
from narvet.lending.iscsi.pdu import Digests
from narvet.lending.wire import RefusedClientError

MOST_TEXT = 64 << 10
"""Bytes of text that an initiator may send in several parts."""
MOST_ALONG = 64 << 10
"""Bytes of data that may come along with a command (FirstBurstLength)."""
_MOST_KEYS = 64
_LONGEST_BURST = 1 << 20


def parsed(data: bytes) -> dict[str, str]:
    """Return keys and values.

    Raises:
        RefusedClientError: they are not of that form, or a key comes twice.
    """
    found = dict[str, str]()
    for part in data.split(b"\0"):
        if not part:
            continue
        key, equals, value = part.decode("utf-8", "replace").partition("=")
        if not equals or not 0 < len(key) <= 63 or key in found or len(found) >= _MOST_KEYS:
            raise RefusedClientError("its keys are not of the form that the protocol has")
        found[key] = value
    return found


def written(pairs: list[tuple[str, str]]) -> bytes:
    """Return keys and values as text."""
    return b"".join(f"{key}={value}".encode() + b"\0" for key, value in pairs)


def number_of(value: str) -> int | None:
    """Return a number in decimal or hexadecimal digits, None where it is none."""
    try:
        if not value.isascii() or "_" in value or len(value) > 20:
            return None
        return int(value, 16) if value[:2].lower() == "0x" else int(value) if value.isdigit() else None
    except ValueError:
        return None


def bytes_of(value: str, most: int = 1024) -> bytes | None:
    """Return a binary value, in hexadecimal or base64 digits (section 6.1), None where it is none or too long."""
    try:
        head, digits = value[:2].lower(), value[2:]
        if len(digits) > 2 * most or head not in ("0x", "0b"):
            return None
        if head == "0x":
            return bytes.fromhex("0" * (len(digits) % 2) + digits)
        return base64.b64decode(digits, validate=True)
    except (ValueError, binascii.Error):
        return None


class Terms(Frozen):
    """What was agreed on for a session; lengths are bytes."""

    digests: Digests = field(default_factory=Digests)
    most_sent: int = 8192
    longest_burst: int = 262144
    first_burst: int = 65536
    immediate: bool = True


Answered = tuple[Terms, str | None]


def _digest(kind: str) -> Callable[[Terms, str], Answered]:
    def agree(terms: Terms, value: str) -> Answered:
        wanted = next((one for one in value.split(",") if one in ("CRC32C", "None")), None)
        if wanted is None:
            return terms, "Reject"
        chosen = wanted == "CRC32C"
        digests = replace(terms.digests, header=chosen) if kind == "header" else replace(terms.digests, data=chosen)
        return replace(terms, digests=digests), wanted

    return agree


def _most_sent(terms: Terms, value: str) -> Answered:
    number = number_of(value)
    if number is None or not 512 <= number < 1 << 24:
        return terms, "Reject"
    return replace(terms, most_sent=min(number, 1 << 20)), None


def _burst(name: str, most: int) -> Callable[[Terms, str], Answered]:
    def agree(terms: Terms, value: str) -> Answered:
        number = number_of(value)
        if number is None or not 512 <= number < 1 << 24:
            return terms, "Reject"
        number = min(number, most)
        changed = replace(terms, first_burst=number) if name == "first" else replace(terms, longest_burst=number)
        return changed, str(number)

    return agree


def _immediate(terms: Terms, value: str) -> Answered:
    return (replace(terms, immediate=value == "Yes"), value) if value in ("Yes", "No") else (terms, "Reject")


def _fixed(answer: str, *known: str) -> Callable[[Terms, str], Answered]:
    """Have a key whose value is always the same here, whichever of the known ones is asked for."""

    def agree(terms: Terms, value: str) -> Answered:
        good = value in known if known else number_of(value) is not None
        return terms, answer if good else "Reject"

    return agree


def _waits(terms: Terms, value: str) -> Answered:
    number = number_of(value)
    return terms, str(number) if number is not None and number <= 3600 else "Reject"


def _reporting(terms: Terms, value: str) -> Answered:
    return terms, "RFC3720" if "RFC3720" in value.split(",") else "Reject"


_BOTH = ("Yes", "No")
_RULES: dict[str, Callable[[Terms, str], Answered]] = {
    "HeaderDigest": _digest("header"),
    "DataDigest": _digest("data"),
    "MaxConnections": _fixed("1"),
    "InitialR2T": _fixed("Yes", *_BOTH),
    "ImmediateData": _immediate,
    "MaxRecvDataSegmentLength": _most_sent,
    "MaxBurstLength": _burst("longest", _LONGEST_BURST),
    "FirstBurstLength": _burst("first", MOST_ALONG),
    "DefaultTime2Wait": _waits,
    "DefaultTime2Retain": _fixed("0"),
    "MaxOutstandingR2T": _fixed("1"),
    "DataPDUInOrder": _fixed("Yes", *_BOTH),
    "DataSequenceInOrder": _fixed("Yes", *_BOTH),
    "ErrorRecoveryLevel": _fixed("0", "0", "1", "2"),
    "IFMarker": _fixed("No", *_BOTH),
    "OFMarker": _fixed("No", *_BOTH),
    "TaskReporting": _reporting,
    "iSCSIProtocolLevel": _fixed("1"),
}
TOLD = ("InitiatorName", "InitiatorAlias", "TargetName", "SessionType")
"""Keys that only tell something."""


def agreed(terms: Terms, asked: dict[str, str]) -> tuple[Terms, list[tuple[str, str]]]:
    """Settle what an initiator asks for; return the new terms, and the answer to each key."""
    answers = list[tuple[str, str]]()
    for key, value in asked.items():
        rule = _RULES.get(key)
        if rule is not None:
            terms, answer = rule(terms, value)
            if answer is not None:
                answers.append((key, answer))
        elif key not in TOLD:
            answers.append((key, "NotUnderstood"))
    if terms.first_burst > terms.longest_burst:
        terms = replace(terms, first_burst=terms.longest_burst)
        answers = [(key, str(terms.first_burst) if key == "FirstBurstLength" else value) for key, value in answers]
    return terms, answers
