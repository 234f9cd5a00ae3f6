"""What a sheet says of the machines: hosts, the stores on them, and the guests that use the disks."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from narvet.ground.values import field
from narvet.model.controllers import Slot
from narvet.sheet.base import Form, means, names
from narvet.sheet.values import (
    SYSTEMS,
    Chunk,
    FormatName,
    Kept,
    Letter,
    PathText,
    Room,
    Slots,
    System,
    Version,
    matching,
)


class HostForm(Form):
    """`[host.NAME]`: a machine that stores and guests' roots lie on, see [fleets.md](fleets.md)."""

    folder: Annotated[
        PathText | None, means("the folder there that relative paths start from", "the sheet's own folder, by its path")
    ] = None


class StripeForm(Form):
    """`stripe` of a store: its storage puts `chunk` bytes on one of its `disks`, then goes on to the next."""

    chunk: Annotated[
        Chunk,
        means(
            "bytes on one disk before the storage goes on to the next",
        ),
    ]
    disks: Annotated[int, Meta(ge=1, le=1024), means("how many disks it goes over")]


class StoreForm(Form):
    """`[store.NAME]`: a folder on a host where disk files are kept."""

    path: Annotated[PathText, means("the folder; it must exist")]
    room: Annotated[
        Room | None,
        means(
            "what this sheet's disks may take of it",
            "what is free there, and what they take already; stores on one filesystem share what is free",
        ),
    ] = None
    keep_free: Annotated[Kept, means("size or share of the room to be left free", "nothing")] = 0
    host: Annotated[str | None, means("name of the host that it lies on, `[host.NAME]`", "this machine")] = None
    zone: Annotated[str | None, means("must be the guest's, where both have one")] = None
    writers: Annotated[
        Annotated[int, Meta(ge=1, le=256)] | None,
        means("how many disks are written to it at once", "2; with `flash` 8"),
    ] = None
    stripe: Annotated[
        StripeForm | None,
        means(
            '`{chunk = "64 KiB", disks = 4}`: the storage puts a chunk on one disk, then goes on to the next; '
            "filesystems are laid out along it",
        ),
    ] = None
    flash: Annotated[bool, means("true: entries get `discard`, so that guests tell what they no longer use")] = False
    service: Annotated[
        Annotated[str, matching(r"https?://\S{1,500}")] | None,
        means(
            "the address of a storage service that its volumes are ordered from: [services.md](services.md); the "
            "folder keeps a record of each"
        ),
    ] = None
    volume_class: Annotated[str | None, means("with `service`: the class of its volumes")] = field(
        name="class", default=None
    )

    def __post_init__(self) -> None:
        if self.volume_class is not None and self.service is None:
            raise ValueError("class is about a store with a service; give that, or leave class out")


class DoorForm(Form):
    """`door` of a guest: how its hypervisor is reached."""

    qmp: Annotated[PathText | None, means("the socket at which a running QEMU guest is managed (QMP)")] = None
    ovf: Annotated[PathText | None, means("the guest's description in OVF, or a package of it (OVA)")] = None

    def __post_init__(self) -> None:
        if (self.qmp is None) == (self.ovf is None):
            raise ValueError('a door is one of {qmp = "…"} and {ovf = "…"}')


class RootForm(Form):
    """`root` of a guest: a filesystem inside an image that holds its root."""

    image: Annotated[PathText, means("the image; a folder works too, without the other keys")]
    partition: Annotated[
        Annotated[int, Meta(ge=0, le=1024)] | None,
        means("its number, 0 for an image without a table", "the one that holds a root of the guest's system"),
    ] = None
    volume: Annotated[
        Annotated[str, matching(r"[A-Za-z0-9_.+][A-Za-z0-9_.+-]*\.[A-Za-z0-9_.+][A-Za-z0-9_.+-]*", 255)] | None,
        means("in place of `partition`: a volume of a pool, with the pool's name, `system.root`"),
    ] = None
    members: Annotated[
        tuple[PathText, ...], means("further images that the pool's other members lie on", "the image has them all")
    ] = ()
    format: Annotated[FormatName | None, means("what the image is read by", "its ending tells")] = None

    def __post_init__(self) -> None:
        if self.volume is not None and self.partition is not None:
            raise ValueError("a root lies on a partition, or on a volume of a pool; leave one of them out")


class GuestForm(Form):
    """`[guest.NAME]`: the machine that will use the disks."""

    runs: Annotated[System, means(names(SYSTEMS))] = SYSTEMS[0]
    version: Annotated[
        Version | None,
        means(
            'what the system says of itself: windows `"10.0.20348"`, linux its kernel, `"6.12"`; what it is too old '
            "for is found out",
            "nothing is checked",
        ),
    ] = None
    letters: Annotated[tuple[Letter, ...], means("windows: letters in use already", '`["C:"]`')] = ("C:",)
    root: Annotated[
        PathText | RootForm | None,
        means(
            "its root filesystem: a folder (linux), or an image that it lies in, or "
            '`{image = "guests/coldroom.qcow2", partition = 2}`; see [roots](roots.md)',
            "none: entries are only shown, and owners of linux must be numbers",
        ),
    ] = None
    new_disks: Annotated[
        Literal["online"] | None,
        means(
            'windows: `"online"` has the guest use disks that it sees for the first time at once', "as the guest has it"
        ),
    ] = None
    slots: Annotated[
        tuple[Slots, ...],
        means(
            'what its controllers offer: `["scsi 0-15"]`; see [controllers](#controllers)',
            '`["scsi 0-15"]`',
        ),
    ] = (tuple(("scsi", position) for position in range(16)),)
    taken: Annotated[tuple[Slots, ...], means("slots in use already", "none")] = ()
    door: Annotated[
        DoorForm | None,
        means(
            'how its hypervisor is reached: `{qmp = "run/coldroom.sock"}` or `{ovf = "coldroom.ovf"}`; see '
            "[attaching](attaching.md)",
            "none: what is to be done by hand is listed",
        ),
    ] = None
    zone: Annotated[str | None, means("must be the store's, where both have one")] = None
    host: Annotated[
        str | None, means("name of the host that its root and door are on, `[host.NAME]`", "this machine")
    ] = None

    count: Annotated[
        Annotated[int, Meta(ge=1, le=100_000)] | None,
        means(
            "so many guests that are alike, `pc01` to `pc40` for `[guest.pc]`, each with disks and pools of its own: "
            "[fleets.md](fleets.md#guests-that-are-alike)",
            "one",
        ),
    ] = None
    digits: Annotated[
        Annotated[int, Meta(ge=1, le=6)] | None,
        means("with `count`: digits of the numbers in names, at least", "those of `count`, at least 2"),
    ] = None
    left_out: Annotated[tuple[int, ...], means("with `count`: numbers of guests that there are not", "none")] = ()

    @property
    def root_form(self) -> RootForm | None:
        """Where its root lies, in full."""
        return RootForm(image=self.root) if isinstance(self.root, str) else self.root

    @property
    def offered(self) -> tuple[Slot, ...]:
        """Every slot the controllers offer."""
        return tuple(dict.fromkeys(slot for part in self.slots for slot in part))

    @property
    def occupied(self) -> frozenset[Slot]:
        """The slots taken before this sheet."""
        return frozenset(slot for part in self.taken for slot in part)
