"""Worlds on real maps: carriers' networks from the open collection `topohub` (PyPI, MIT), with people and servers at
them."""

from collections.abc import Mapping
from typing import Any

from kuppel.core.duration import MINUTE_US
from kuppel.core.limit import Limit
from kuppel.lab.skerry.estate import Plan
from kuppel.lab.world.application import Application, Dependency
from kuppel.lab.world.draw import Generator, generator
from kuppel.lab.world.secured import Chains, issued
from kuppel.lab.world.topology import Domain, Host, Link, Topology, Wifi
from kuppel.lab.world.world import Certificate, Resolver, World

# Light in fibre: 5 µs a kilometre (ITU-T G.114, Annex A).
_MS_A_KM = 0.005
_LEAST_MS = 0.2
_POINTS, _SITES = 14, 3
_PAGE = b"<h1>Next sailing</h1>" + b"<p>09:40</p>" * 1_200
_VALID_US = 60 * 24 * 60 * MINUTE_US


def carrier_world(name: str, topology: Mapping[str, Any], seed: int, begun_us: int) -> tuple[World, tuple[Plan, ...]]:
    """A world on one map: vantage points at many of its nodes, servers at a few.

    Parameters
    ----------
    topology : nodes and edges in node-link form, edges with `dist` in km, as `topohub.get` gives them.
    """
    draw = generator(seed, "carrier", name)
    graph = Topology()
    nodes = [str(one["id"]) for one in topology["nodes"]]
    for number, node in enumerate(nodes):
        address, reverse = f"10.{200 + number // 250}.{number % 250 + 1}.1", f"core-{node}.carrier.example"
        graph.add(Host(f"core-{node}", "Carrier", "transit", address, "", reverse))
    seen: set[frozenset[str]] = set()
    for edge in topology["edges"]:
        ends = frozenset((str(edge["source"]), str(edge["target"])))
        if len(ends) == 2 and ends not in seen:
            seen.add(ends)
            _line(graph, f"core-{edge['source']}", f"core-{edge['target']}", "transit", "Carrier", _delay(edge), 0, 0.0)
    order = [nodes[at] for at in draw.permutation(len(nodes)).tolist()]
    sites = order[: min(_SITES, max(1, len(order) // 4))]
    world = World(seed, graph)
    _servers(world, sites, begun_us)
    points = [_point(graph, draw, number, order[-1 - number % len(order)]) for number in range(_POINTS)]
    world.resolver_of = dict.fromkeys(points, "resolver")
    return world, _plans(points)


def _delay(edge: Mapping[str, Any]) -> float:
    return max(_LEAST_MS, float(edge.get("dist") or 50) * _MS_A_KM)


def _line(
    graph: Topology, near: str, far: str, domain: Domain, network: str, delay_ms: float, rate: float, load: float,
    wifi: Wifi | None = None,
) -> None:  # fmt: skip
    cost = max(1, round(delay_ms * 10))
    for source, target in ((near, far), (far, near)):
        queue = "exponential" if rate else "none"
        graph.join(Link(source, target, domain, network, delay_ms, rate, load, queue, cost, wifi=wifi))  # type: ignore[arg-type]


def _servers(world: World, sites: list[str], begun_us: int) -> None:
    graph = world.topology
    authority = Chains(world).authority
    for number, (name, own_ms) in enumerate((("shop", 45), ("api", 22), ("stock", 12))):
        site = sites[number % len(sites)] if name == "shop" else sites[0]
        gate = f"gate-{site}"
        if gate not in graph.hosts:
            graph.add(Host(gate, "Hosting", "far", f"203.0.113.{number + 1}", "", f"{gate}.hosting.example"))
            _line(graph, f"core-{site}", gate, "far", "Hosting", 1.2, 0, 0.0)
        graph.add(Host(name, "Hosting", "service", f"203.0.113.{80 + number}", "", f"{name}.example"))
        _line(graph, gate, name, "far", "Hosting", 0.3, 0, 0.0)
        needs = {"shop": (Dependency("api", 0.8),), "api": (Dependency("stock"),)}.get(name, ())
        body = _PAGE if name == "shop" else b"{}"
        world.applications[name] = Application(name, name, 443, own_ms, body, dependencies=needs)
        world.names[f"{name}.example", 4] = f"203.0.113.{80 + number}"
        end_us = begun_us + _VALID_US
        leaf = issued(authority, [f"{name}.example"], end_us, 90)
        world.certificates[name] = [Certificate(begun_us - 4 * _VALID_US, end_us, (leaf, authority.certificate))]
    graph.add(Host("resolver", "Carrier", "names", "203.0.113.53", "", "resolver.carrier.example"))
    _line(graph, f"core-{sites[-1]}", "resolver", "names", "Carrier", 0.4, 0, 0.0)
    world.resolvers["resolver"] = Resolver("resolver")


def _point(graph: Topology, draw: Generator, number: int, node: str) -> str:
    """A laptop at home, behind its provider's edge at a node."""
    point, home, edge = f"point {number + 1}", f"home-{number + 1}", f"edge-{node}"
    if edge not in graph.hosts:
        count = len(graph.hosts)
        address = f"172.16.{count // 250}.{count % 250 + 1}"
        graph.add(Host(edge, "Access", "provider", address, "", f"{edge}.access.example"))
        _line(graph, edge, f"core-{node}", "provider", "Access", 1.5, 0, 0.0)
    graph.add(Host(point, "own network", "machine", f"10.{number}.0.23", "", "", node))
    graph.add(Host(home, "own network", "local", f"10.{number}.0.1", answer_ms=0.5))
    wifi = Wifi(float(draw.uniform(-66, -54))) if draw.random() < 0.6 else None
    _line(graph, point, home, "machine", "own network", 0.3, 300, 0.05, wifi)
    _line(graph, home, edge, "local", "Access", 4.0, 50, 0.35)
    return point


def _plans(points: list[str]) -> tuple[Plan, ...]:
    names = tuple(points)
    web = {"url": "https://shop.example/", "timeout_ms": 10_000}
    return (
        Plan("shop front page", "http", "shop", names, 2 * MINUTE_US, (Limit("total", 550, 1100),), web, "shop"),
        Plan(
            "shop API", "http", "api", names[::2], 2 * MINUTE_US, (Limit("total", 350, 700),),
            {"url": "https://api.example/", "timeout_ms": 10_000}, "api",
        ),
        Plan(
            "reach the shop", "icmp", "shop", names, 2 * MINUTE_US, (Limit("loss_ratio", 0.1, 0.3, 0.05),),
            {"host": "shop.example", "timeout_ms": 1_000},
        ),
        Plan(
            "name of the shop", "dns", "resolver", names[::2], 2 * MINUTE_US, (Limit("lookup", 200, 500),),
            {"resolver": "203.0.113.53", "name": "shop.example", "expect_answers": ["203.0.113.80"]}, "shop",
        ),
        Plan(
            "path to the shop", "path", "shop", names, 10 * MINUTE_US, (),
            {"host": "shop.example", "protocol": "tcp", "port": 443, "most_flows": 12, "confidence": "0.95"},
        ),
        Plan("the machines", "host", "own machine", names, 5 * MINUTE_US, (Limit("memory_ratio", 0.9, 0.97),), {}),
    )  # fmt: skip
