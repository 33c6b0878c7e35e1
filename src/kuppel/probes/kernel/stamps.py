"""The kernel's time stamps of packets, as they come beside the data of a socket."""

import functools
import socket
import struct
import time

# include/uapi/asm-generic/socket.h; the standard library does not name them. The first gives the time of receiving alone.
SO_TIMESTAMPNS, SO_TIMESTAMPING = 35, 37


def stamp_of(ancillary: list[tuple[int, int, bytes]]) -> int | None:
    """The software stamp of a packet, in ns since 1970; None when the kernel gave none.

    A struct timespec, or a struct scm_timestamping, which begins with one.
    """
    for level, kind, data in ancillary:
        if level == socket.SOL_SOCKET and kind in (SO_TIMESTAMPNS, SO_TIMESTAMPING) and len(data) >= 16:
            seconds, nanoseconds = struct.unpack_from("=qq", data)
            return int(seconds * 1_000_000_000 + nanoseconds)
    return None


# linux/net_tstamp.h: TX and RX in software, numbered by packet, without the packet itself.
_SEND_AND_RECEIVE = (1 << 1) | (1 << 3) | (1 << 4) | (1 << 7) | (1 << 11)


def stamp_both_ways(sock: socket.socket) -> None:
    """Have the kernel stamp what this socket sends, too; they come by its error queue (`icmp_errors`), which must be
    emptied, or poll() never rests."""
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 0)
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPING, _SEND_AND_RECEIVE)


@functools.cache
def keep_stamping() -> socket.socket:
    """A socket, held for the life of the process, that keeps the kernel stamping what it receives.

    The kernel stamps only while some socket asks for it, and begins a moment after the first one asked: without this
    one, the first replies of a train would come without a stamp.
    """
    keeper = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    keeper.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    time.sleep(0.005)
    return keeper
