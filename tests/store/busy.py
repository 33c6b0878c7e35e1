"""A process to be killed: takes results and finishes days at once, and prints how many results it has acknowledged."""

import sys
import threading
from functools import partial
from pathlib import Path

from kuppel.core.duration import DAY_US
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.store import inventory
from kuppel.store.compaction import Compaction
from kuppel.store.database import Database
from kuppel.store.intake import NumberedResult, take_batch
from kuppel.store.inventory import Target
from kuppel.store.writer import Writer
from tests.store.test_store import a_probe

MINUTE = 60_000_000
FIRST = 20_000 * DAY_US
BATCH = 97


def main() -> None:
    folder, done = Path(sys.argv[1]), int(sys.argv[2])
    database = Database(folder / "kuppel.db")
    writer = Writer(database)
    with database.reading() as connection:
        is_new = not inventory.vantage_points(connection)
    if is_new:
        description = {"name": "Brannick", "kind": "site", "place": "", "provider": "", "version": "", "addresses": []}
        point = writer.write(partial(inventory.enrol, description=description, token_hash="x", now_us=5))
        target = writer.write(partial(inventory.add_target, new=Target(0, "booking site"))).id
        writer.write(partial(inventory.add_probe, new=a_probe(target, (point,)), now_us=5))
    compaction = Compaction(database, writer)

    def finish() -> None:
        while True:
            compaction.run(2**60)

    threading.Thread(target=finish, daemon=True).start()
    while True:
        results = [NumberedResult(number + 1, 1, _result(number)) for number in range(done, done + BATCH)]
        job = partial(take_batch, vantage_point_id=1, spool="spool-one", results=results, up_to=done + BATCH, refused=0)
        done = writer.write(job).acknowledged
        print(done, flush=True)


def _result(number: int) -> Result:
    time_us = FIRST + number * MINUTE
    if number % 50 == 49:
        return Result(time_us, Reason.TIMEOUT, {}, {}, (Attempt(time_us, 1, Reason.TIMEOUT),))
    return Result(time_us, None, {"total": number / 8}, {}, (Attempt(time_us, 1),))


main()
