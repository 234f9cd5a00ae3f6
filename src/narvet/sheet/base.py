"""What all tables of a sheet share: how a key is declared, once, with its type, default and meaning."""

from __future__ import annotations

import re
from collections.abc import Iterable

from pydantic import BaseModel, ConfigDict, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from narvet.ground.values import Frozen


class Told(Frozen):
    """What a key means, in Markdown, and what stands in for it where the default is not a plain value."""

    meaning: str
    usual: str = ""

    def __get_pydantic_json_schema__(self, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Return the schema of a key with its meaning, for editors."""
        found = handler(core)
        return {**found, "description": plain(self.meaning)}


def plain(meaning: str) -> str:
    """Return what a key means without Markdown."""
    return re.sub(r"\[([^]]*)\]\([^)]*\)", r"\1", meaning).replace("`", "")


def names(names: Iterable[str]) -> str:
    """Return names as a list in Markdown."""
    return ", ".join(f"`{name}`" for name in names)


class Form(BaseModel):
    """What all tables of a sheet share: no unknown keys, no change after reading."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True)


def key_of(form: type[Form], name: str) -> str:
    """Return the key of a sheet that a field of a form stands for."""
    return form.model_fields[name].alias or name
