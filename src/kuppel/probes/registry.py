"""All probe kinds, found by their modules: a kind is a module of this package with a `KIND`."""

import importlib
import pkgutil
from collections.abc import Mapping

import kuppel.probes
from kuppel.core.error import SettingsError
from kuppel.probes.kind import Kind


def _found() -> dict[str, Kind]:
    kinds = {}
    for module in pkgutil.iter_modules(kuppel.probes.__path__):
        kind = getattr(importlib.import_module(f"kuppel.probes.{module.name}"), "KIND", None)
        if isinstance(kind, Kind):
            kinds[kind.name] = kind
    return kinds


KINDS: Mapping[str, Kind] = _found()


def kind_named(name: str) -> Kind:
    """The kind of that name.

    Raises
    ------
    SettingsError
        naming the field `kind`, when there is no such kind.
    """
    found = KINDS.get(name)
    if found is None:
        raise SettingsError("kind", name, f"be one of {', '.join(sorted(KINDS))}")
    return found
