"""The rules of the job and its computation: pure functions and plain dataclasses.

No I/O, no clock, no randomness of its own, no framework. Times are UTC integers in microseconds and always arguments.
"""
