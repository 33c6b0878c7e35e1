"""How busy the machine was while something was measured: printed beside every figure, since a shared machine lies."""

import time
from pathlib import Path
from types import TracebackType
from typing import Self


class Steal:
    """Share of processor time that other guests of the same machine took, between enter and exit (proc(5), /proc/stat)."""

    def __enter__(self) -> Self:
        self._before = self._read()
        self._begun = time.monotonic()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        stolen, total = (after - before for after, before in zip(self._read(), self._before, strict=True))
        self.share = stolen / total if total else 0.0
        self.seconds = time.monotonic() - self._begun

    def told(self) -> str:
        return f"over {self.seconds:.0f} s; {self.share:.0%} of the processors' time was taken by other guests"

    @staticmethod
    def _read() -> tuple[int, int]:
        fields = [int(one) for one in Path("/proc/stat").read_text().splitlines()[0].split()[1:9]]
        return fields[7], sum(fields)
