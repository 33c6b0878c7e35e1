"""Makes up the past of all streams, on all cores, and writes it through the store's bulk path."""

import gc
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from multiprocessing import get_context

from kuppel.core.duration import DAY_US
from kuppel.core.state import Judgement
from kuppel.hub.engine.judge import Judge
from kuppel.lab.bulk.past import StreamPlan, past_days, results_of, whole_past
from kuppel.lab.skerry.faults import told_changes
from kuppel.lab.skerry.services import skerry_world
from kuppel.lab.world.fault import Fault, effects
from kuppel.lab.world.world import World
from kuppel.store import changes, days
from kuppel.store.bulk import StreamPast, write_past
from kuppel.store.intake import NumberedResult, store_results
from kuppel.store.writer import Writer

_RESULTS_A_COMMIT = 5_000
Progress = Callable[[float], None]
"""Told what share is done."""


@dataclass(frozen=True, slots=True)
class Recipe:
    """All that a world is made from: the same recipe, the same world."""

    seed: int
    begun_us: int
    days: int
    faults: tuple[Fault, ...] = ()

    def made(self) -> World:
        world = skerry_world(self.seed, self.begun_us, self.days)
        world.effects.put(effects(world, self.faults))
        return world


_world: World


def _prepare(recipe: Recipe) -> None:
    global _world  # noqa: PLW0603 (one world a worker process: it is much larger than a job)
    _world = recipe.made()
    # A worker makes millions of small things that hold no circles: looking for circles costs, and finds none.
    gc.disable()


def _draw(stream: StreamPlan, from_us: int, horizon_us: int, to_us: int) -> StreamPast:
    return whole_past(_world, stream, Judgement(), from_us, horizon_us, to_us)


def write_history(writer: Writer, recipe: Recipe, streams: Sequence[StreamPlan], progress: Progress) -> None:
    """Write the past of all streams until the recipe's beginning, and let it be seen: whole days as such, the last as
    rows."""
    world = recipe.made()
    from_us, horizon_us = midnight(recipe.begun_us - recipe.days * DAY_US), midnight(recipe.begun_us)
    # The longest first, or one would be left over at the end.
    jobs = sorted(streams, key=lambda one: (one.plan.interval_us, one.plan.kind != "voice", one.stream_id))
    with ProcessPoolExecutor(os.cpu_count(), get_context("spawn"), _prepare, (recipe,)) as pool:
        waiting = [pool.submit(_draw, one, from_us, horizon_us, recipe.begun_us) for one in jobs]
        # In their order, whichever is ready first: the same recipe gives the same octets.
        for done, future in enumerate(waiting, 1):
            writer.write(partial(write_past, past=future.result()))
            progress(done / len(jobs))
    told = told_changes(world, list(recipe.faults), from_us, recipe.begun_us)
    writer.write(lambda connection: changes.add_changes(connection, told))
    writer.write(partial(days.move_horizon, to_us=horizon_us))


def write_runs(
    writer: Writer,
    judge: Judge,
    world: World,
    streams: Sequence[StreamPlan],
    since_us: Callable[[StreamPlan], int],
    to_us: int,
    progress: Progress,
) -> int:
    """Write runs from a moment of each stream's own until `to_us`, one by one as results are; how many."""
    written = 0
    waiting: list[NumberedResult] = []

    def store() -> None:
        nonlocal written, waiting
        results, waiting = waiting, []
        writer.write(partial(store_results, results=results, is_generated=True))
        judge.take(results)
        written += len(results)

    for number, stream in enumerate(streams, 1):
        for past in past_days(world, stream, since_us(stream), to_us):
            waiting += [NumberedResult(0, stream.stream_id, one) for one in results_of(past)]
            if len(waiting) >= _RESULTS_A_COMMIT:
                store()
        progress(number / len(streams))
    store()
    return written


def midnight(time_us: int) -> int:
    return time_us // DAY_US * DAY_US
