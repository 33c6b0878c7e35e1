"""Tests, one folder a layer. Each check names the published source that it is against."""
