"""Loops and calls that bring the core's rules to stored data."""
