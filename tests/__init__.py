"""Tests, one folder a layer. Each check names the published source that it is against."""

from hypothesis import HealthCheck, settings

# How fast examples are made says something of the machine, not of the code.
settings.register_profile("kuppel", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("kuppel")
