"""What the keys of a sheet mean, looked up by their names."""

from __future__ import annotations

from collections.abc import Iterable

from narvet.ground.errors import RequestError, nearest
from narvet.ground.rules import RULES
from narvet.ground.values import Frozen
from narvet.sheet.base import Form, plain
from narvet.sheet.contents import PartitionForm, VolumeForm
from narvet.sheet.form import DeviceForm, DiskForm, PoolForm, RatesForm, Sheet
from narvet.sheet.keys import keys_of
from narvet.sheet.machines import DoorForm, GuestForm, RootForm, StoreForm, StripeForm
from narvet.usecases.words import WORDS

_TABLES: dict[str, type[Form]] = {
    "sheet": Sheet,
    "store": StoreForm,
    "store.stripe": StripeForm,
    "guest": GuestForm,
    "guest.root": RootForm,
    "guest.door": DoorForm,
    "disk": DiskForm,
    "disk.device": DeviceForm,
    "disk.ceiling": RatesForm,
    "disk.partition": PartitionForm,
    "pool": PoolForm,
    "pool.volume": VolumeForm,
}


KEYS = tuple(dict.fromkeys(key for form in _TABLES.values() for key in keys_of(form)))
"""The keys of all tables of a sheet."""


class ExplainedKey(Frozen):
    """A key of a sheet: the table it stands in, what it means, and what stands in for it."""

    key: str
    table: str
    meaning: str
    usual: str


def explained_names() -> tuple[str, ...]:
    """Return everything that can be explained: rules, keys and words."""
    return tuple(dict.fromkeys((*RULES, *KEYS, *WORDS)))


def explained_keys(names: Iterable[str]) -> tuple[ExplainedKey, ...]:
    """Return what keys mean, in every table that has one of the name; a name may have its table before it.

    Raises:
        RequestError: there is no such key, nor a rule of that name.
    """
    every = [
        ExplainedKey(key, table, plain(known.meaning), plain(known.usual))
        for table, form in _TABLES.items()
        for key, known in keys_of(form).items()
    ]
    found: list[ExplainedKey] = []
    for name in names:
        own = [one for one in every if name in (one.key, f"{one.table}.{one.key}")]
        if not own:
            raise RequestError(f'there is no rule, key or word "{name}"{nearest(name, explained_names())}')
        found += own
    return tuple(found)
