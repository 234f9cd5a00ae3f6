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
_MODE = 0o600


def unseals(*, makes: bool = False) -> Callable[[F], F]:
    """Give a command the passphrases of sealed volumes: from a file, the environment, or asked for on a terminal.

    With `makes` it seals volumes too: their recovery keys are shown once, or kept in a file.
    """

    def decorate(command: F) -> F:
        @wraps(command)
        def call(*args: Any, unseal: bool, passphrase_file: Path | None, **known: Any) -> Any:
            recovery: Path | None = known.pop("recovery", None)
            ring = narvet.Keyring(_given(passphrase_file), lambda name, new: _asked(name, new=new, asks=unseal))
            shown: list[tuple[str, str]] = []
            if recovery is not None:
                _new_file(recovery)
                ring.keep = lambda name, key: _add(recovery, name, key)
            else:
                ring.keep = lambda name, key: shown.append((name, key))
            try:
                with narvet.unsealing(ring):
                    return command(*args, **known)
            finally:
                if recovery is not None and not recovery.stat().st_size:
                    recovery.unlink()
                _show(shown)

        options = [
            click.option("--unseal", is_flag=True, help="Ask for the passphrases of sealed volumes."),
            click.option("--passphrase-file", type=A_PATH, help="The first line of this file is a passphrase."),
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


def _given(file: Path | None) -> list[bytes]:
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


def _new_file(path: Path) -> None:
    try:
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_NOFOLLOW, _MODE))
    except OSError as error:
        raise narvet.RequestError(f"{path}: {error.strerror}; name a new file for the recovery keys") from None


def _add(path: Path, name: str, key: str) -> None:
    """Add a recovery key to its file, on stable storage before anything that it opens has its name."""
    with path.open("a", encoding="utf-8") as file:
        file.write(f"{name}  {key}\n")
        file.flush()
        os.fsync(file.fileno())


def _show(keys: list[tuple[str, str]]) -> None:
    if keys:
        say("Recovery keys, shown this once; each opens its volume as the passphrase does:", err=True)
    for name, key in keys:
        say(f"  {name}  {key}", err=True)
