"""Credentials among a probe's settings: taken out before they are stored or shown, put back before they are used.

The secret part of settings is a tree of the same shape with the credentials alone, for example
`{"headers": {"Authorization": "Bearer …"}}`. In the open part a mask stands in the place of each.
"""

from collections.abc import Mapping
from typing import Any

from kuppel.core.error import SettingsError

MASK = "(kept secret)"


def masked(settings: Mapping[str, Any], secret: Mapping[str, Any]) -> dict[str, Any]:
    """The open part: settings with a mask for each credential.

    >>> masked({"url": "u", "headers": {"A": "x", "B": "y"}}, {"headers": {"A": "x"}})
    {'url': 'u', 'headers': {'A': '(kept secret)', 'B': 'y'}}
    """
    shown = dict(settings)
    for name, value in secret.items():
        shown[name] = masked(shown[name], value) if isinstance(value, Mapping) else MASK
    return shown


def unmasked(settings: Mapping[str, Any], secret: Mapping[str, Any], field: str = "settings") -> dict[str, Any]:
    """Settings whose masks are replaced by the credentials that they stand for.

    Raises
    ------
    SettingsError
        when a mask stands where no credential is kept.
    """
    whole: dict[str, Any] = {}
    for name, value in settings.items():
        kept = secret.get(name)
        if isinstance(value, Mapping):
            whole[name] = unmasked(value, kept if isinstance(kept, Mapping) else {}, f"{field}.{name}")
        elif value != MASK:
            whole[name] = value
        elif isinstance(kept, str):
            whole[name] = kept
        else:
            raise SettingsError(f"{field}.{name}", MASK, "be given anew: no such secret is kept")
    return whole
