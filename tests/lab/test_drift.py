"""The made-up past against the live world: same link, hour and fault, same distribution of every quantity.

Two-sample Kolmogorov–Smirnov tests (scipy) at the level of 1 in 2,000 each; seeds are fixed, so none fails by chance of the
day. The live side is the real probe over `SimulatedNet`, the other the columns that history is made of.
"""

import unittest
from collections.abc import Sequence

import numpy as np
from scipy import stats

from kuppel.core.quantity import rounded
from kuppel.core.result import Result
from kuppel.lab.bulk.past import KINDS, PastDay, StreamPlan, drawn, results_of
from kuppel.lab.skerry.estate import PLANS
from kuppel.lab.world.draw import generator
from kuppel.lab.world.fault import Fault
from kuppel.lab.world.world import World
from kuppel.probes.registry import kind_named
from tests.lab.worlds import BEGUN_US, fault, measured, plan_named, skerry

LEVEL = 1 / 2000
HOUR_OF_TIMES = BEGUN_US + np.arange(300, dtype=np.int64) * 12_000_000
# What real code does not leave to the network: how a fact is written, how long the event loop took.
FEW = {"path": 90}


def made_up(world: World, plan: str, point: str, times: "np.ndarray[tuple[int], np.dtype[np.int64]]") -> list[Result]:
    one = plan_named(plan)
    settings = kind_named(one.kind).parse(one.settings).model_dump(mode="json")
    day, facts = drawn(world, StreamPlan(1, one, point, settings, 0), times, generator("drift", plan, point))
    return results_of(PastDay(0, day, facts))


class SameDistribution(unittest.TestCase):
    def compare(self, plan: str, point: str, *faults: Fault) -> None:
        world = skerry(9, *faults)
        one = plan_named(plan)
        times = HOUR_OF_TIMES[:: max(1, HOUR_OF_TIMES.size // FEW.get(one.kind, HOUR_OF_TIMES.size))]
        live = measured(world, one.kind, one.settings, point, times, attempts=2)
        past = made_up(world, plan, point, times)
        self.assert_outcomes_alike(live, past)
        names = {name for result in live for name in result.quantities}
        self.assertEqual(names, {name for result in past for name in result.quantities})
        for name in sorted(names):
            ours, theirs = (self.column(results, name) for results in (live, past))
            with self.subTest(plan=plan, point=point, faults=[each.kind for each in faults], quantity=name):
                self.assertGreater(stats.ks_2samp(ours, theirs).pvalue, LEVEL, (np.median(ours), np.median(theirs)))
        self.assert_facts_alike(live, past)
        spent = [[sum(tried.duration_us for tried in result.attempts) for result in results] for results in (live, past)]
        if one.kind not in ("host", "path"):  # what those take is the machine's own time
            self.assertGreater(stats.ks_2samp(*spent).pvalue, LEVEL, "time taken")

    @staticmethod
    def column(results: Sequence[Result], name: str) -> list[float]:
        return [rounded({name: one.quantities[name]})[name] for one in results if name in one.quantities]

    def assert_outcomes_alike(self, live: list[Result], past: list[Result]) -> None:
        """Failures by reason, and repeated attempts, are as frequent in both (Fisher's exact test)."""
        reasons = {one.reason for one in (*live, *past)}
        for reason in reasons:
            counts = [sum(one.reason == reason for one in results) for results in (live, past)]
            table = [[count, len(live) - count] for count in counts]
            self.assertGreater(stats.fisher_exact(table).pvalue, LEVEL, f"{reason}: {counts}")
        tries = [sum(len(one.attempts) > 1 for one in results) for results in (live, past)]
        self.assertGreater(stats.fisher_exact([[one, len(live) - one] for one in tries]).pvalue, LEVEL, f"again: {tries}")

    def assert_facts_alike(self, live: list[Result], past: list[Result]) -> None:
        """The same facts with the same values, or nothing would look changed at the moment when measuring begins."""
        told = [{(name, value) for one in results for name, value in one.facts.items()} for results in (live, past)]
        steady = [{pair for pair in each if "*" not in pair[1]} for each in told]
        self.assertEqual(*steady)

    def test_every_kind_while_nothing_is_wrong(self) -> None:
        seen = set()
        for plan in PLANS:
            if plan.kind in seen and not plan.name.endswith(("at sea", "from home", "by IPv6")):
                continue
            seen.add(plan.kind)
            self.compare(plan.name, plan.points[-1])
        self.assertEqual(seen, set(KINDS))

    def test_packets_under_faults(self) -> None:
        self.compare("call the bridge, from home", "Tobias R.", fault("weak_wifi", "Tobias R."))
        self.compare("call the bridge", "Averil", fault("full_uplink", "Averil"))
        self.compare("packets to the head office", "Kelmouth", fault("slow_uplink", "edge-kelmouth>kel-edge-2"))
        self.compare("reach the booking site, at sea", "MV Fulmar", fault("satellite_fade", "MV Fulmar"))
        self.compare("reach the booking site", "Lundhavn", fault("provider_detour", "Quillnet"))
        self.compare("throughput to the head office", "Ostrey", fault("far_congestion", "edge-a>line"))

    def test_exchanges_under_faults(self) -> None:
        self.compare("sailings API", "North", fault("release_errors", "api"))
        self.compare("crew roster", "Ostrey", fault("exhausted_pool", "roster"))
        self.compare("booking front page", "Brannick", fault("broken_ipv6", "edge-a"))
        self.compare("booking front page", "Ines H.", fault("slow_resolver", "dns-quillnet"))
        self.compare("payments answer", "South", fault("certificate_expired", "pay"))
        self.compare("name of the booking site", "Ostrey", fault("wrong_names", "dns"))
        self.compare("gate controllers", "West", fault("transit_loss", "nx-port-2>hw-core-2"))
        self.compare("look up a seat", "North", fault("failed_dependency", "fares"))

    def test_machines_and_paths_under_faults(self) -> None:
        self.compare("the laptops", "Hanna S.", fault("busy_agent", "Hanna S."))
        self.compare("reach the booking site", "Vessna", fault("busy_agent", "Vessna"))
        self.compare("path to the booking site", "Brannick", fault("slow_router", "nx-port-4"))
        self.compare("path to the booking site", "Kelmouth", fault("slow_uplink", "edge-kelmouth>kel-edge-2"))


if __name__ == "__main__":
    unittest.main()
