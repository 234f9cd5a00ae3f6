"""Rules about images: as they are found, and as formats allow them. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_bytes


@rule(
    meaning="The base of a child is not the image the child was made from.",
    way_out="Put back the base as it was; what the child holds fits no other. If it was only moved, copied or touched, "
    "`narvet tie CHILD BASE` ties the child to it.",
)
def base_changed(base: str, child: str) -> Wording:
    """Word a base that is not what its child was made from."""
    return (
        f"{base} is not what {child} was made from: it was changed, or is another image",
        "put back the base as it was; or, if it was only copied or touched, tie the child to it",
    )


@rule(
    meaning="A child names a base in another folder. An image may name any file, so Narvet does not follow "
    "such a base by itself.",
    way_out='If it is the right one, name it: `--base "FILE"`.',
)
def base_elsewhere(reason: str) -> Wording:
    """Word a base that is not followed by itself."""
    return reason, "name the base, if it is the right one"


@rule(
    meaning="Narvet can read nothing on the disk.",
    way_out="If the disk is meant to be empty, make a new one. Encrypted disks and formats Narvet does not read "
    "look like this.",
)
def bytes_not_known() -> Wording:
    """Word a disk that holds bytes, but nothing that can be read."""
    return (
        "it holds neither a table nor a filesystem that Narvet can read",
        "do not overwrite it unless you know what it is",
    )


@rule(meaning="Nothing has been written to the image yet.", way_out="Nothing; it is an empty disk.")
def image_blank(size: int) -> Wording:
    """Word a disk that nothing was written to."""
    return f"nothing has been written to its {show_bytes(size)}", ""


@rule(meaning="There is a file where an image should be, but it cannot be read as one.", way_out="Move the file away.")
def image_cannot_be_read(reason: str) -> Wording:
    """Word a file that is no image."""
    return reason, "move it away"


@rule(
    meaning="An image breaks its format's specification, or uses what cannot be read yet.",
    way_out="Fetch it again, or repair it where it was made.",
)
def image_damaged(reason: str) -> Wording:
    """Word an image that cannot be opened."""
    return reason, "fetch it again, or repair it where it was made"


@rule(meaning="The image holds no bytes at all.", way_out="Write it again, or fetch it again.")
def image_empty() -> Wording:
    """Word an image without a byte."""
    return "the file holds no bytes", "write it again, or fetch it again"


@rule(
    meaning="The image's format does not record that the disk has sectors of 4096 bytes.",
    way_out="Attach the disk with sectors of that size, or use vhdx, which records them.",
)
def sector_not_recorded(format_name: str, sector_size: int) -> Wording:
    """Word a disk whose sectors its image does not record."""
    return (
        f"{format_name} does not record that the disk has sectors of {sector_size} bytes",
        "attach it with sectors of that size, or use vhdx",
    )


@rule(
    meaning="The image's format, or its sectors or blocks, do not allow what is asked.",
    way_out="Choose another format, or what it allows.",
)
def size_over_format(reason: str, remedy: str) -> Wording:
    """Word what a format does not allow."""
    return reason, remedy


@rule(
    meaning="The sectors or the image format cannot have exactly this size, so it was rounded up.",
    way_out="Nothing; or give a size of whole sectors.",
)
def size_rounded(format_name: str, asked: int, becomes: int, sector_size: int = 0) -> Wording:
    """Word a size that was rounded up; `sector_size` is 0 where it plays no part."""
    sectors = f" with {sector_size}-byte sectors" if sector_size else ""
    return (
        f"{format_name}{sectors} cannot have exactly {show_bytes(asked)}; the disk gets {show_bytes(becomes)}",
        "",
    )


@rule(
    meaning="A record of a volume is here, and the service has that volume no more: somebody gave it back.",
    way_out="`narvet retire` the disk; to have a new one, write the sheet with `--anew` after moving the record away.",
)
def volume_gone(reason: str) -> Wording:
    """Word a record whose volume the service has no more."""
    return reason, "retire the disk, or move its record away and write it anew"
