"""Kuppel: measure from many places, keep, and explain."""

__version__ = "0.1.0"
