"""The far ends of probes, those that are wanted together: two-way packets, speech, and data, each in a thread of its
own."""

import threading
from dataclasses import dataclass

from kuppel.probes.kernel.data_reflector import DataReflector
from kuppel.probes.kernel.reflector import DatagramReflector
from kuppel.probes.kernel.speech import SpeechReflector
from kuppel.probes.kernel.two_way import Reflector


@dataclass(frozen=True, slots=True)
class ReflectorPorts:
    """Where to answer what; None does not answer, 0 takes a free port."""

    two_way: int | None = None
    speech: int | None = None
    data: int | None = None


class Reflectors:
    """Listens from the start; answers once started."""

    def __init__(
        self, address: str, ports: ReflectorPorts, key: str | None = None, clock_error_us: int | None = None
    ) -> None:
        """
        Raises
        ------
        NetError
            when a port cannot be listened on.
        """
        error_ns = None if clock_error_us is None else clock_error_us * 1000
        self._serving: dict[str, Reflector | SpeechReflector | DataReflector] = {}
        try:
            if ports.two_way is not None:
                self._serving["two_way"] = Reflector(address, ports.two_way, key.encode() if key else None, error_ns)
            if ports.speech is not None:
                self._serving["speech"] = SpeechReflector(address, ports.speech)
            if ports.data is not None:
                self._serving["data"] = DataReflector(address, ports.data, key)
        except BaseException:
            self.close()
            raise

    @property
    def ports(self) -> dict[str, int]:
        """The port of each that answers."""
        return {name: one.port for name, one in self._serving.items()}

    @property
    def counted(self) -> dict[str, tuple[int, int]]:
        """Of those that answer datagrams, how many were answered and how many dropped."""
        return {
            name: (one.answered, one.dropped) for name, one in self._serving.items() if isinstance(one, DatagramReflector)
        }

    def start(self) -> list[threading.Thread]:
        """Answer, in threads: an answer must not wait for what else the process does."""
        threads = [threading.Thread(target=one.serve, name=name, daemon=True) for name, one in self._serving.items()]
        for one in threads:
            one.start()
        return threads

    def close(self) -> None:
        for one in self._serving.values():
            one.close()
