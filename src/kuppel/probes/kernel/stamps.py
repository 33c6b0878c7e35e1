"""The kernel's time stamps of packets, as they come beside the data of a socket."""

import functools
import socket
import struct
import time
from collections.abc import Iterator

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
_ORIGIN_TIMESTAMPING = 4
_ERRORS = ((socket.IPPROTO_IP, 11), (socket.IPPROTO_IPV6, 25))  # IP_RECVERR, IPV6_RECVERR


def stamp_both_ways(sock: socket.socket) -> None:
    """Have the kernel stamp what this socket sends, too; `sent_stamps` then yields the stamps."""
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 0)
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPING, _SEND_AND_RECEIVE)


def sent_stamps(sock: socket.socket) -> Iterator[tuple[int, int]]:
    """(number, ns) of packets that left since the last call. They come by the error queue, which poll() never lets rest."""
    while True:
        try:
            _, ancillary, _, _ = sock.recvmsg(512, 512, socket.MSG_ERRQUEUE)
        except OSError:
            return
        for level, kind, data in ancillary:
            if (level, kind) in _ERRORS and len(data) >= 16 and data[4] == _ORIGIN_TIMESTAMPING:
                stamp = stamp_of(ancillary)
                if stamp is not None:
                    yield struct.unpack_from("=I", data, 12)[0], stamp


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
