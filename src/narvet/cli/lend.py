"""`narvet lend`."""

from __future__ import annotations

import logging
import signal
import sys
import threading
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, IMAGE_FORMAT, print_line, remark, report_well, with_partition
from narvet.cli.job import is_quiet, job
from narvet.cli.unseal import unseals

if TYPE_CHECKING:
    from narvet import Client, Server, What

_LOG = logging.getLogger("narvet")
_EVERY = 0.5  # seconds between two pictures of the clients


@job("lend")
@click.argument("images", metavar="IMAGE[:PLACE]...", nargs=-1, required=True)
@click.option("--at", default="127.0.0.1:10809", help="HOST:PORT, or the path of a socket.  [127.0.0.1:10809]")
@click.option("--read-only", is_flag=True, help="Let nobody write.")
@click.option("--child-each", type=A_PATH, metavar="FOLDER", help="Give each client a child of its own, made here.")
@click.option("--child-format", type=click.Choice(narvet.IMAGE_FORMATS), default="qcow2", help="Format of these.")
@click.option("--keep", is_flag=True, help="Keep the children once their clients have gone.")
@click.option("--certificate", type=A_PATH, help="This server's certificate, in PEM: every connection is sealed.")
@click.option("--key", type=A_PATH, help="The key of the certificate, in PEM.")
@click.option("--clients", type=A_PATH, help="Whose certificates clients must have, in PEM.")
@click.option("--unguarded", is_flag=True, help="Lend to other machines also where clients need no certificate.")
@IMAGE_FORMAT
@BASES
@unseals()
@AS_JSON
def command(images: tuple[str, ...], at: str, as_json: bool, **known: Any) -> None:
    """Lend disks to machines that attach them as block devices, over NBD, until Ctrl-C or a signal ends it.

    Each IMAGE is lent by its file's name without the ending, whatever its format; PLACE is one of its partitions, or a
    volume with its pool. It is held as long as it is lent, so that nothing else changes it.

    Example: narvet lend stores/vault/trials.vhdx --at 127.0.0.1:10809
    """
    address, certificates = _address(at), _certificates(**known)
    _check_guarded(address, guarded=bool(known["clients"]), asked=known["unguarded"])
    wishes = narvet.LendWishes(
        known["read_only"], known["image_format"], known["bases"], known["child_each"], known["child_format"],
        known["keep"],
    )  # fmt: skip
    if known["keep"] and known["child_each"] is None:
        raise click.UsageError("--keep is about --child-each.")
    shows = not as_json and not is_quiet() and sys.stderr.isatty()
    ended = _ended_by_signals()
    told = threading.Lock()

    def heard(what: What, client: Client, why: str) -> None:
        from narvet.report.lending import event_line, lent_facts

        with told:
            if as_json:
                print_line(lent_facts(what, client, why))
            elif shows:
                _LOG.info(event_line(what, client, why))
            else:
                remark(event_line(what, client, why))

    with ExitStack() as stack:
        places = [with_partition(one) for one in images]
        server = stack.enter_context(narvet.lend(places, address, heard, wishes, certificates))
        if not as_json:
            for name in server.names:
                report_well(f"{name}: {server.about(name)}, at {_url(server, name)}")
        _until(ended, server, shows=shows)
    if not as_json:
        report_well("Everything that was acknowledged is stored.")


def _until(ended: threading.Event, server: Server, *, shows: bool) -> None:
    """Wait for the end; on a terminal the clients are shown meanwhile."""
    if not shows:
        ended.wait()
        return
    from rich.live import Live

    from narvet.report.lending import View
    from narvet.report.terminal import message_console

    view = View()
    with Live(console=message_console(), auto_refresh=False, transient=True) as live:
        while not ended.wait(_EVERY):
            live.update(view.shown(list(server.clients.values()), str(server.address)), refresh=True)


def _ended_by_signals() -> threading.Event:
    """Return what is set by the first Ctrl-C or end signal; a second Ctrl-C ends at once."""
    ended = threading.Event()

    def end(number: int, frame: FrameType | None) -> None:
        del frame
        ended.set()
        signal.signal(number, before[number])

    before: dict[int, Callable[..., Any] | int | None] = {
        one: signal.signal(one, end) for one in (signal.SIGINT, signal.SIGTERM)
    }
    return ended


def _url(server: Server, name: str) -> str:
    """Return where a disk is, as most clients take it."""
    where = server.address
    return f"nbd+unix:///{name}?socket={where}" if where.path else f"nbd://{where}/{name}"


def _address(at: str) -> narvet.Address:
    """Return where to listen.

    Raises:
        RequestError: it is no address.
    """
    if "/" in at:
        return narvet.Address(path=str(Path(at)))
    host, _, port = at.rpartition(":")
    if not host or not (port.isascii() and port.isdigit()) or int(port) > 65535:
        raise narvet.RequestError(f"{at}: this is no address; give HOST:PORT, or the path of a socket")
    return narvet.Address(host.strip("[]"), int(port))


def _certificates(certificate: Path | None, key: Path | None, clients: Path | None, **_: Any) -> Any:
    if certificate is None and key is None and clients is None:
        return None
    if certificate is None or key is None:
        raise click.UsageError("--certificate and --key belong together; --clients needs both.")
    return narvet.Certificates(certificate, key, clients)


def _check_guarded(address: narvet.Address, *, guarded: bool, asked: bool) -> None:
    """Refuse to lend to other machines where anybody could take the disks, unless that is asked for.

    Raises:
        RequestError: it is not.
    """
    if address.is_local or guarded:
        return
    if not asked:
        raise narvet.RequestError(
            f"{address}: other machines reach this, and anybody on them could take the disks; have clients show a "
            "certificate (--certificate, --key, --clients), or add --unguarded"
        )
    remark(f"Anybody who reaches {address} can read these disks, and write to them unless they are read only.")
