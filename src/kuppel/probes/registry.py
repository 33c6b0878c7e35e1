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


# From the network to the application, as forms and lists show them; what is not named comes last.
_ORDER = (
    "icmp", "tcp", "udp", "path", "dns", "tls", "http", "transaction", "page", "voice", "throughput", "host",
)  # fmt: skip


def _place(name: str) -> int:
    return _ORDER.index(name) if name in _ORDER else len(_ORDER)


KINDS: Mapping[str, Kind] = dict(sorted(_found().items(), key=lambda item: (_place(item[0]), item[0])))


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
