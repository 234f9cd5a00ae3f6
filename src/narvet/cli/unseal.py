"""What the commands that open sealed volumes share: where passphrases come from, and where recovery keys go."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar

import click

import narvet
from narvet.cli.common import A_PATH
from narvet.cli.speak import say

F = TypeVar("F", bound=Callable[..., Any])
VARIABLE = "NARVET_PASSPHRASE"
_MOST = 4096  # bytes of a file with a passphrase that are looked at
PASSPHRASE_FILE = click.option("--passphrase-file", type=A_PATH, help="The first line of this file is a passphrase.")


def unseals(*, makes: bool = False) -> Callable[[F], F]:
    """Give a command the passphrases of sealed volumes: from a file, the environment, or asked for on a terminal.

    With `makes` it seals volumes too: their recovery keys are shown once, or kept in a file.
    """

    def decorate(command: F) -> F:
        @wraps(command)
        def call(*args: Any, unseal: bool, passphrase_file: Path | None, **known: Any) -> Any:
            recovery = narvet.RecoveryFile(path) if (path := known.pop("recovery", None)) else None
            ring = narvet.Keyring(
                given_passphrases(passphrase_file), lambda name, new: _asked(name, new=new, asks=unseal)
            )
            shown: list[tuple[str, str]] = []
            if recovery is not None:
                recovery.begin()
                ring.keep = recovery.add
            else:
                ring.keep = lambda name, key: shown.append((name, key))
            try:
                with narvet.unsealing(ring):
                    return command(*args, **known)
            finally:
                if recovery is not None:
                    recovery.end()
                _show(shown)

        options = [
            click.option("--unseal", is_flag=True, help="Ask for the passphrases of sealed volumes."),
            PASSPHRASE_FILE,
        ]
        if makes:
            options.append(
                click.option(
                    "--recovery", type=A_PATH, help="Put recovery keys into this new file instead of showing them."
                )
            )
        found: Any = call
        for option in reversed(options):
            found = option(found)
        return found  # type: ignore[no-any-return]

    return decorate


def given_passphrases(file: Path | None) -> list[bytes]:
    """Return the passphrases that a file and the environment give.

    Raises:
        RequestError: the file cannot be read, or has none.
    """
    given = [os.environb[VARIABLE.encode()]] if os.environ.get(VARIABLE) else []
    return given if file is None else [first_line(file), *given]


def first_line(file: Path) -> bytes:
    """Return the passphrase that is the first line of a file.

    Raises:
        RequestError: it cannot be read, or has none.
    """
    try:
        with file.open("rb") as opened:
            line = opened.read(_MOST).split(b"\n", 1)[0].rstrip(b"\r")
    except OSError as error:
        raise narvet.RequestError(f"{file}: {error.strerror}; name a file whose first line is the passphrase") from None
    if not line:
        raise narvet.RequestError(f"{file}: its first line is empty, and no passphrase")
    return line


def keep_recovery(name: str, key: str) -> None:
    """Keep a recovery key as the call asked for: in its file, or shown at the end."""
    keep = narvet.current_keyring().keep
    if keep is not None:
        keep(name, key)


def _asked(name: str, *, new: bool, asks: bool) -> bytes | None:
    if not sys.stdin.isatty() or not (asks or new):
        return None
    words = f"New passphrase of {name}" if new else f"Passphrase of {name}"
    answer = click.prompt(words, hide_input=True, confirmation_prompt=new, err=True, default="", show_default=False)
    return str(answer).encode("utf-8", "surrogateescape") or None


def _show(keys: list[tuple[str, str]]) -> None:
    if keys:
        say("Recovery keys, shown this once; each opens its volume as the passphrase does:", err=True)
    for name, key in keys:
        say(f"  {name}  {key}", err=True)
