"""Narvet plans virtual data disks and writes them, laid out so that each guest can use them at once.

As a library it is functions over paths and frozen values; the command line uses nothing else. Each function is loaded
when it is first asked for, so that `import narvet` costs next to nothing.

    from pathlib import Path
    import narvet

    reviewed = narvet.review(Path("sheet.toml"))
    if not narvet.has_errors(reviewed.layout.findings):
        narvet.write(Path("sheet.toml"))
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

__version__ = "0.1.0"

if TYPE_CHECKING:
    from narvet.demo import change_example, change_room, halted_guest, lay_example_out, room_sheet
    from narvet.fleet.choose import engine_for
    from narvet.fleet.engine import working_with
    from narvet.fleet.hub import hub
    from narvet.formats.filesystems import NAMES as FILESYSTEMS
    from narvet.formats.filesystems.contract import PURPOSES
    from narvet.formats.images import NAMES as IMAGE_FORMATS
    from narvet.formats.seals.keyring import Keyring, unsealing
    from narvet.formats.seals.keyring import keyring as current_keyring
    from narvet.formats.seals.recovery import RecoveryFile
    from narvet.formats.tables import NAMES as TABLES
    from narvet.ground.errors import (
        BugError,
        ImageError,
        NarvetError,
        RefusedError,
        RequestError,
        UnfinishedError,
        UnsupportedError,
        nearest,
    )
    from narvet.ground.findings import Finding, Place, Rule, has_errors
    from narvet.ground.rules import RULES
    from narvet.ground.rules.guests import owner_not_set
    from narvet.ground.rules.plugs import not_read_in_full
    from narvet.ground.units import SizeError, counted, parse_size, show_both
    from narvet.guests import guest_system
    from narvet.guests.contract import HasRoots
    from narvet.lending.certificates import Certificates
    from narvet.lending.contract import Client, What
    from narvet.lending.server import Address, Server
    from narvet.model.devices import Device
    from narvet.model.estate import Disk, Estate, Guest, Image, Partition
    from narvet.model.layout import Layout, PlannedDisk, StoreCapacity
    from narvet.model.moves import Difference, Step
    from narvet.plan.by_hand import HandWork
    from narvet.report.frame import Table, table
    from narvet.services.calls import NotDoneError
    from narvet.services.client import Service
    from narvet.services.client import Wanted as ServiceOrder
    from narvet.services.tokens import token_from
    from narvet.sheet.draft import Drafted, Request, request_keys
    from narvet.sheet.find import find_sheet, sheets_in
    from narvet.sheet.form import Sheet
    from narvet.sheet.read import read_sheet
    from narvet.sheet.values import SYSTEMS
    from narvet.standin.serve import stand_in
    from narvet.standin.trouble import Wanted as Trouble
    from narvet.usecases.adopt import Adopted, adopt
    from narvet.usecases.attach import Attached, Attaching, attach, detach, write_list
    from narvet.usecases.branch import Branched, branch
    from narvet.usecases.draft import draft, read_requests, start_blank
    from narvet.usecases.enlarge import Resized, enlarge
    from narvet.usecases.entries import Installed, entries, install_entries
    from narvet.usecases.explain import KEYS, ExplainedKey, explained_keys, explained_names
    from narvet.usecases.fold import fold
    from narvet.usecases.handover import Handover, handover
    from narvet.usecases.history import Event, history
    from narvet.usecases.host import host
    from narvet.usecases.inside import confirm_inside, list_devices, write_inside
    from narvet.usecases.interview import (
        Choice,
        Interview,
        Question,
        forget_answers,
        interview,
        keep_answers,
        kept_answers,
    )
    from narvet.usecases.keys import KeyChange, Keys, keys, put_back
    from narvet.usecases.layout import Reviewed, confirm, review
    from narvet.usecases.lend import LendWishes, OverIscsi, OverNbd, lend
    from narvet.usecases.logins import read_logins
    from narvet.usecases.look import Looked, look, take_out
    from narvet.usecases.make import DiskWishes, Made, make
    from narvet.usecases.recast import Recast, RecastWishes, recast
    from narvet.usecases.reclaim import Reclaimed, reclaim
    from narvet.usecases.retire import retire
    from narvet.usecases.shrink import shrink
    from narvet.usecases.survey import (
        Surveyed,
        SurveyWishes,
        images_in,
        survey,
        survey_on_hosts,
        survey_paths,
        survey_pools,
    )
    from narvet.usecases.tie import Tied, tie
    from narvet.usecases.words import WORDS
    from narvet.usecases.wrap import Wrapped, unwrap, wrap
    from narvet.usecases.write import Written, write

_HOMES = {
    "demo": ("change_example", "change_room", "halted_guest", "lay_example_out", "room_sheet"),
    "fleet.choose": ("engine_for",),
    "fleet.engine": ("working_with",),
    "fleet.hub": ("hub",),
    "formats.filesystems": ("FILESYSTEMS=NAMES",),
    "formats.filesystems.contract": ("PURPOSES",),
    "formats.seals.keyring": ("Keyring", "current_keyring=keyring", "unsealing"),
    "formats.seals.recovery": ("RecoveryFile",),
    "formats.images": ("IMAGE_FORMATS=NAMES",),
    "formats.tables": ("TABLES=NAMES",),
    "ground.errors": (
        "BugError", "ImageError", "NarvetError", "RefusedError", "RequestError", "UnfinishedError", "UnsupportedError",
        "nearest",
    ),
    "ground.findings": ("Finding", "Place", "Rule", "has_errors"),
    "ground.rules": ("RULES",),
    "ground.rules.guests": ("owner_not_set",),
    "ground.rules.plugs": ("not_read_in_full",),
    "ground.units": ("SizeError", "counted", "parse_size", "show_both"),
    "guests": ("guest_system",),
    "guests.contract": ("HasRoots",),
    "plan.by_hand": ("HandWork",),
    "lending.certificates": ("Certificates",),
    "lending.contract": ("Client", "What"),
    "lending.server": ("Address", "Server"),
    "model.devices": ("Device",),
    "model.estate": ("Disk", "Estate", "Guest", "Image", "Partition"),
    "model.layout": ("Layout", "PlannedDisk", "StoreCapacity"),
    "model.moves": ("Difference", "Step"),
    "report.frame": ("Table", "table"),
    "services.calls": ("NotDoneError",),
    "services.client": ("Service", "ServiceOrder=Wanted"),
    "services.tokens": ("token_from",),
    "sheet.draft": ("Drafted", "Request", "request_keys"),
    "sheet.find": ("find_sheet", "sheets_in"),
    "sheet.form": ("Sheet",),
    "sheet.read": ("read_sheet",),
    "sheet.values": ("SYSTEMS",),
    "standin.serve": ("stand_in",),
    "standin.trouble": ("Trouble=Wanted",),
    "usecases.keys": ("KeyChange", "Keys", "keys", "put_back"),
    "usecases.adopt": ("Adopted", "adopt"),
    "usecases.attach": ("Attached", "Attaching", "attach", "detach", "write_list"),
    "usecases.branch": ("Branched", "branch"),
    "usecases.draft": ("draft", "read_requests", "start_blank"),
    "usecases.enlarge": ("Resized", "enlarge"),
    "usecases.entries": ("Installed", "entries", "install_entries"),
    "usecases.explain": ("KEYS", "ExplainedKey", "explained_keys", "explained_names"),
    "usecases.fold": ("fold",),
    "usecases.handover": ("Handover", "handover"),
    "usecases.history": ("Event", "history"),
    "usecases.host": ("host",),
    "usecases.inside": ("confirm_inside", "list_devices", "write_inside"),
    "usecases.interview": (
        "Choice", "Interview", "Question", "forget_answers", "interview", "keep_answers", "kept_answers",
    ),
    "usecases.layout": ("Reviewed", "confirm", "review"),
    "usecases.lend": ("LendWishes", "OverIscsi", "OverNbd", "lend"),
    "usecases.logins": ("read_logins",),
    "usecases.look": ("Looked", "look", "take_out"),
    "usecases.make": ("DiskWishes", "Made", "make"),
    "usecases.recast": ("Recast", "RecastWishes", "recast"),
    "usecases.reclaim": ("Reclaimed", "reclaim"),
    "usecases.retire": ("retire",),
    "usecases.shrink": ("shrink",),
    "usecases.survey": (
        "SurveyWishes",
        "Surveyed",
        "images_in",
        "survey",
        "survey_on_hosts",
        "survey_paths",
        "survey_pools",
    ),
    "usecases.tie": ("Tied", "tie"),
    "usecases.words": ("WORDS",),
    "usecases.wrap": ("Wrapped", "unwrap", "wrap"),
    "usecases.write": ("Written", "write"),
}  # fmt: skip
_HOME_OF = {name.partition("=")[0]: (home, name.rpartition("=")[2]) for home, names in _HOMES.items() for name in names}

__all__ = [
    "FILESYSTEMS",
    "IMAGE_FORMATS",
    "KEYS",
    "PURPOSES",
    "RULES",
    "SYSTEMS",
    "TABLES",
    "WORDS",
    "Address",
    "Adopted",
    "Attached",
    "Attaching",
    "Branched",
    "BugError",
    "Certificates",
    "Choice",
    "Client",
    "Device",
    "Difference",
    "Disk",
    "DiskWishes",
    "Drafted",
    "Estate",
    "Event",
    "ExplainedKey",
    "Finding",
    "Guest",
    "HandWork",
    "Handover",
    "HasRoots",
    "Image",
    "ImageError",
    "Installed",
    "Interview",
    "KeyChange",
    "Keyring",
    "Keys",
    "Layout",
    "LendWishes",
    "Looked",
    "Made",
    "NarvetError",
    "NotDoneError",
    "OverIscsi",
    "OverNbd",
    "Partition",
    "Place",
    "PlannedDisk",
    "Question",
    "Recast",
    "RecastWishes",
    "Reclaimed",
    "RecoveryFile",
    "RefusedError",
    "Request",
    "RequestError",
    "Resized",
    "Reviewed",
    "Rule",
    "Server",
    "Service",
    "ServiceOrder",
    "Sheet",
    "SizeError",
    "Step",
    "StoreCapacity",
    "SurveyWishes",
    "Surveyed",
    "Table",
    "Tied",
    "Trouble",
    "UnfinishedError",
    "UnsupportedError",
    "What",
    "Wrapped",
    "Written",
    "adopt",
    "attach",
    "branch",
    "change_example",
    "change_room",
    "confirm",
    "confirm_inside",
    "counted",
    "current_keyring",
    "detach",
    "draft",
    "engine_for",
    "enlarge",
    "entries",
    "explained_keys",
    "explained_names",
    "find_sheet",
    "fold",
    "forget_answers",
    "guest_system",
    "halted_guest",
    "handover",
    "has_errors",
    "history",
    "host",
    "hub",
    "images_in",
    "install_entries",
    "interview",
    "keep_answers",
    "kept_answers",
    "keys",
    "lay_example_out",
    "lend",
    "list_devices",
    "look",
    "make",
    "nearest",
    "not_read_in_full",
    "owner_not_set",
    "parse_size",
    "put_back",
    "read_logins",
    "read_requests",
    "read_sheet",
    "recast",
    "reclaim",
    "request_keys",
    "retire",
    "review",
    "room_sheet",
    "sheets_in",
    "show_both",
    "shrink",
    "stand_in",
    "start_blank",
    "survey",
    "survey_on_hosts",
    "survey_paths",
    "survey_pools",
    "table",
    "take_out",
    "tie",
    "token_from",
    "unsealing",
    "unwrap",
    "working_with",
    "wrap",
    "write",
    "write_inside",
    "write_list",
]  # fmt: skip


def __getattr__(name: str) -> object:
    """Load what is asked for from its home."""
    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    home, own = _HOME_OF[name]
    value: object = getattr(import_module(f"narvet.{home}"), own)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    """Return everything that is offered."""
    return sorted([*__all__, "__version__"])
