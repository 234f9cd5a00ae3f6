"""Fleets for tests: sheets over several hosts, and hubs and hosts that run as programs of their own."""

from __future__ import annotations

import json
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

from tests.certificates import certificates
from tests.program import IDENTITY, PROGRAM, facts, file_digest, make_root, run

KINDS = ("raw", "qcow2", "vhdx", "vmdk")
FILESYSTEMS = ("ext4", "xfs", "ext4", "swap")


def fleet(folder: Path, hosts: int, guests: int, more: str = "") -> Path:
    """Lay a fleet out in a folder, its sheet in several files; each guest has four disks, two of them joined."""
    (folder / "racks").mkdir(parents=True)
    for number in range(1, hosts + 1):
        (folder / "hosts" / f"rack{number}" / "vault").mkdir(parents=True)
        (folder / "racks" / f"{number}.toml").write_text(
            f'[host.rack{number}]\nfolder = "hosts/rack{number}"\n'
            f'[store.vault{number}]\nhost = "rack{number}"\npath = "vault"\n'
        )
    for number in range(1, guests + 1):
        make_root(folder / "hosts" / f"rack{1 + (number - 1) % hosts}" / f"pc{number:02}")
    text = f'sheet = 1\nidentity = "{IDENTITY}"\ninclude = ["racks/*.toml"]\n{more}'
    text += f'[guest.pc]\ncount = {guests}\nhost = "rack{{1-{hosts}}}"\nroot = "{{name}}"\n'
    for at, kind in enumerate(KINDS):
        text += f'[disk.d{at}]\nguest = "pc"\nstore = "vault{{1-{hosts}}}"\nsize = "64 MiB"\nformat = "{kind}"\n'
        text += f'[[disk.d{at}.partition]]\nfilesystem = "{FILESYSTEMS[at]}"\n'
        text += f'at = "/srv/{{n}}/{at}"\n' if FILESYSTEMS[at] != "swap" else ""
    for at in range(2):
        text += f'[disk.m{at}]\nguest = "pc"\nstore = "vault{{1-{hosts}}}"\nsize = "64 MiB"\n'
        text += f'[[disk.m{at}.partition]]\npool = "cold"\n'
    text += '[pool.cold]\nguest = "pc"\n[[pool.cold.volume]]\nname = "readings"\nspread = "striped"\nat = "/srv/cold"\n'
    (folder / "sheet.toml").write_text(text)
    return folder / "sheet.toml"


def written(folder: Path) -> dict[str, str]:
    """Return what lies on the hosts: each file with what is in it; that nothing is left over is part of it."""
    found = {}
    for path in sorted((folder / "hosts").rglob("*")):
        if path.is_file():
            found[str(path.relative_to(folder))] = file_digest(path)
    return found


@contextmanager
def running(*words: str) -> Iterator[subprocess.Popen[str]]:
    """Run a hub or a host."""
    command = [str(PROGRAM), *words, "--json"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        try:
            yield process
        finally:
            process.kill()
            process.communicate()


def told_by(process: subprocess.Popen[str]) -> Any:
    """Return what a hub or a host tells of itself once it is there."""
    assert process.stdout is not None
    line = process.stdout.readline()
    assert line, process.communicate(timeout=10)
    return json.loads(line)


def host(folder: Path, name: str, address: str, *words: str) -> tuple[str, ...]:
    """Return the call that runs a host of a fleet."""
    return ("host", name, str(folder / "hosts" / name), "--hub", address, "--jobs", "1", *words)


@contextmanager
def hosted(folder: Path, hosts: int, *words: str) -> Iterator[tuple[str, dict[str, subprocess.Popen[str]]]]:
    """Run a hub and hosts; yield the hub's address, and all of them by their names."""
    with ExitStack() as stack:
        processes = {"hub": stack.enter_context(running("hub", "--at", "127.0.0.1:0", *words))}
        address = told_by(processes["hub"])["hub"]
        for number in range(1, hosts + 1):
            name = f"rack{number}"
            processes[name] = stack.enter_context(running(*host(folder, name, address, *words)))
        for name in list(processes)[1:]:
            assert told_by(processes[name])["host"] == name
        yield address, processes


class Way:
    """A way to a hub, which can be cut: every connection on it ends at once, and none is taken until it is open again."""

    def __init__(self, hub: str) -> None:
        host, _, port = hub.rpartition(":")
        self._hub = host, int(port)
        self._ends: list[socket.socket] = []
        self._is_open = True
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.address = f"127.0.0.1:{self._listening.getsockname()[1]}"
        threading.Thread(target=self._take, daemon=True).start()

    def _take(self) -> None:
        with suppress(OSError):
            while True:
                near, _ = self._listening.accept()
                if not self._is_open:
                    near.close()
                    continue
                far = socket.create_connection(self._hub)
                self._ends += [near, far]
                for one, other in ((near, far), (far, near)):
                    threading.Thread(target=self._carry, args=(one, other), daemon=True).start()

    def _carry(self, one: socket.socket, other: socket.socket) -> None:
        with suppress(OSError):
            while data := one.recv(1 << 16):
                other.sendall(data)
        for end in (one, other):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def cut(self) -> None:
        """Cut it, or cut it again."""
        self._is_open = False
        for end in self._ends:
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def mend(self) -> None:
        """Open it again."""
        self._is_open = True


def keys_in(folder: Path) -> tuple[str, ...]:
    """Make certificates for hub, hosts and commands in a folder, and return the words that name them."""
    folder.mkdir()
    certificates(folder)
    for old, new in (("authority.pem", "ca.pem"), ("server.pem", "cert.pem"), ("server.key", "key.pem")):
        (folder / old).rename(folder / new)
    return "--certificates", str(folder)


def written_at_last(sheet: Path, address: str, seconds: float) -> None:
    """Write a sheet again and again until all of it is done, for at most so long, and have it confirmed."""
    ends = time.monotonic() + seconds
    while (last := run("write", str(sheet), "--over", address, "--yes")).returncode and time.monotonic() < ends:
        time.sleep(1)
    assert last.returncode == 0, last.stderr
    assert facts("confirm", str(sheet), "--over", address)["agrees"]
