"""The root of one of the example's guests as an image: made, and filled with what its folder has."""

from __future__ import annotations

import shutil
from pathlib import Path
from uuid import UUID

from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.trees import Owner
from narvet.formats.images import image_format
from narvet.formats.images.chain import new_image_file
from narvet.formats.images.contract import ImageSpec
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.ground.units import MIB
from narvet.guests.roots import changed_root
from narvet.model.estate import Root

_SIZE = 96 * MIB
_UUID = UUID("c2b8a9f4-17e2-4d6e-8c35-5a0de1c9b8f7")  # the one that its own fstab names
_MADE = 1772409600  # 2 March 2026
_FOLDERS = Owner(0, 0, 0o755)
_EMPTY = ("dev", "proc", "sys", "srv", "var", "var/log", "usr", "usr/lib/modules/6.12.48-larkmoor")


def root_image(folder: Path) -> Path:
    """Turn a folder into an image with an ext4 that holds it, beside it; return the image."""
    image = folder.with_name(f"{folder.name}.qcow2")
    kind, table = image_format("qcow2"), table_format("gpt")
    entry = PartitionEntry(1, MIB, _SIZE - 2 * MIB, table.partition_type("ext4", "linux"), str(_UUID), "root")
    with new_image_file(kind, image, ImageSpec(_SIZE, id=_UUID, made=_MADE)) as device:
        table.write(device, Table("gpt", str(_UUID), (entry,)))
        new = filesystem("ext4").plan(entry.size, Wishes(_UUID, "root", made=_MADE, start=entry.start))
        new.write(Window(device, entry.start, entry.size))
    with changed_root(Root(str(image), 1, moment=_MADE), lambda _: True) as root:
        for inside in (*sorted(str(path.relative_to(folder)) for path in folder.rglob("*")), *_EMPTY):
            with root.place(inside) as place:
                above = place.folder
                for name in place.missing[:-1]:
                    above = root.edited.make_folder(above, name, _FOLDERS, {})
                if place.missing and (folder / inside).is_file():
                    root.edited.replace(above, place.missing[-1], (folder / inside).read_bytes())
                elif place.missing:
                    root.edited.make_folder(above, place.missing[-1], _FOLDERS, {})
    shutil.rmtree(folder)
    return image
