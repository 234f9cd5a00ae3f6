"""A guest that goes on running while a test works on it: commands by its serial line, its monitor on a socket."""

from __future__ import annotations

import json
import select
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tests.real.guest import built

_LOOP = """stty -echo
trap '' INT
echo "== ready"
while read -r line; do
    [ "$line" = end ] && break
    eval "$line"
    echo "== done"
done < /dev/console
"""
_SECONDS = 240


@dataclass
class Running:
    """A guest under the hypervisor."""

    process: subprocess.Popen[bytes]
    monitor: Path
    said: bytes = b""

    def tell(self, line: str, seconds: float = _SECONDS) -> str:
        """Run a line of shell in the guest and return what it prints."""
        assert self.process.stdin is not None
        self.process.stdin.write(line.encode() + b"\n")
        self.process.stdin.flush()
        return self.until("== done", seconds)

    def until(self, mark: str, seconds: float = _SECONDS) -> str:
        """Return what the guest prints up to a mark."""
        assert self.process.stdout is not None
        ends = time.monotonic() + seconds
        while mark.encode() not in self.said:
            ready, _, _ = select.select([self.process.stdout], [], [], max(ends - time.monotonic(), 0))
            data = self.process.stdout.read1(65536) if ready else b""  # type: ignore[attr-defined]
            assert data, f"the guest does not say {mark!r}:\n{self.said.decode(errors='replace')[-3000:]}"
            self.said += data
        before, _, self.said = self.said.partition(mark.encode())
        return before.decode(errors="replace").replace("\r", "").strip("\n")


@contextmanager
def running(folder: Path, *words: str) -> Iterator[Running]:
    """Boot a guest with a SCSI adapter and whatever else is asked for; its monitor is FOLDER/monitor."""
    kernel, initramfs = built()
    with tempfile.TemporaryDirectory() as own:
        handed = Path(own, "script")
        handed.write_bytes(_LOOP.encode().ljust(1024, b"\n"))
        command = [
            "qemu-system-x86_64", "-accel", "tcg", "-smp", "1", "-m", "768", "-nodefaults", "-display", "none",
            "-serial", "stdio", "-no-reboot", "-kernel", str(kernel), "-initrd", str(initramfs),
            "-append", "console=ttyS0 quiet panic=1", "-device", "virtio-scsi-pci,id=sc",
            "-drive", f"file={handed},format=raw,if=virtio,readonly=on",
            "-qmp", f"unix:{folder / 'monitor'},server=on,wait=off", *words,
        ]  # fmt: skip
        process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, cwd=folder
        )
        with process:
            try:
                guest = Running(process, folder / "monitor")
                guest.until("== ready")
                yield guest
            finally:
                process.kill()


def say(monitor: Path, command: str, **arguments: Any) -> Any:
    """Give a monitor one command, by the few lines of its protocol that this takes, and return the answer."""
    with socket.socket(socket.AF_UNIX) as link:
        link.settimeout(60)
        link.connect(str(monitor))
        lines = link.makefile("rw")
        assert "QMP" in json.loads(lines.readline())
        answers = []
        for one in ({"execute": "qmp_capabilities"}, {"execute": command, "arguments": arguments}):
            lines.write(json.dumps(one) + "\n")
            lines.flush()
            while "event" in (answer := json.loads(lines.readline())):
                pass
            answers.append(answer)
        return answers[1].get("return", answers[1].get("error"))
