"""NTP timestamps (RFC 5905 §6): seconds since 1900 with 32 bits of fraction, era by the nearest moment."""

_UNIX_ERA_S = 2_208_988_800
_ERA_S = 1 << 32


def to_ntp(time_ns: int) -> int:
    """A moment (UTC, ns since 1970) as 64 bits.

    >>> to_ntp(0) >> 32
    2208988800
    """
    seconds, rest = divmod(time_ns, 1_000_000_000)
    return ((seconds + _UNIX_ERA_S) % _ERA_S) << 32 | (rest << 32) // 1_000_000_000


def from_ntp(timestamp: int, near_ns: int) -> int:
    """The moment (UTC, ns since 1970) that 64 bits stand for, in the era that brings it nearest to another moment.

    >>> from_ntp(to_ntp(1_700_000_000_500_000_000), 1_700_000_000_000_000_000) - 1_700_000_000_500_000_000
    0
    """
    seconds, fraction = (timestamp >> 32) - _UNIX_ERA_S, timestamp & 0xFFFF_FFFF
    # Rounded up, so that a moment in whole nanoseconds comes back as it went.
    time_ns = seconds * 1_000_000_000 + -(-fraction * 1_000_000_000 // _ERA_S)
    era_ns = _ERA_S * 1_000_000_000
    return time_ns + round((near_ns - time_ns) / era_ns) * era_ns
