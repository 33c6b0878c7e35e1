"""How many octets were spent today, by account; kept in a file, so that a restart does not begin a new budget."""

import json
import os
import threading
import time
from pathlib import Path

from kuppel.core.reason import Reason
from kuppel.probes.net import NetError

_DAY_S = 86_400


class Ledger:
    """Octets spent on this day (UTC). Without a file it lives as long as its process."""

    def __init__(self, path: Path | None = None) -> None:
        self._path = path
        self._lock = threading.Lock()
        self._day = 0
        self._spent: dict[str, int] = {}
        if path is not None and path.exists():
            try:
                kept = json.loads(path.read_text())
                self._day = int(kept["day"])
                self._spent = {str(name): int(octets) for name, octets in kept["spent"].items()}
            except (ValueError, KeyError, TypeError, AttributeError):
                # A ledger that cannot be read might hide a spent budget; today's is then taken for spent below.
                self._day, self._spent = -1, {}

    def reserve(self, account: str, octets: int, most_a_day: int, now_s: float | None = None) -> None:
        """Take octets from an account; negative ones give back.

        Raises
        ------
        NetError
            when that would spend more than `most_a_day`; nothing is taken then.
        """
        day = int((time.time() if now_s is None else now_s) // _DAY_S)
        with self._lock:
            if self._day == -1:
                self._day, self._spent = day, {account: most_a_day}
            if day != self._day:
                self._day, self._spent = day, {}
            spent = self._spent.get(account, 0)
            if octets > 0 and spent + octets > most_a_day:
                told = f"{spent / 1e6:,.0f} of {most_a_day / 1e6:,.0f} MB a day are spent, {octets / 1e6:,.0f} are needed"
                raise NetError(Reason.BUDGET_SPENT, told)
            self._spent[account] = max(0, spent + octets)
            self._keep()

    def _keep(self) -> None:
        if self._path is not None:
            fresh = self._path.with_suffix(".new")
            fresh.write_text(json.dumps({"day": self._day, "spent": self._spent}))
            os.replace(fresh, self._path)
