"""The real network: kernel sockets and libcurl behind the `Net` protocol."""

from kuppel.probes.kernel.network import KernelNet, SystemClock

__all__ = ["KernelNet", "SystemClock"]
