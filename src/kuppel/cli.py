"""The command line: hub, agent, one probe by hand, and the demo."""

import asyncio
import contextlib
import json
import logging
import os
import signal
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

import structlog
import typer
from pydantic import SecretStr, ValidationError

from kuppel import __version__

app = typer.Typer(no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False, help=__doc__)


@app.callback(invoke_without_command=True)
def _version(version: Annotated[bool, typer.Option("--version", help="Say the version and stop.")] = False) -> None:
    if version:
        typer.echo(__version__)
        raise typer.Exit


def _configure_log(level: str) -> None:
    """Structured lines on standard error, one event a line."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.LogfmtRenderer(key_order=["timestamp", "level", "event"], bool_as_flag=False),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.getLevelNamesMapping()[level.upper()]),
        logger_factory=structlog.WriteLoggerFactory(file=sys.stderr),
    )


def _fail(words: str) -> typer.Exit:
    typer.echo(words, err=True)
    return typer.Exit(2)


def _told(error: ValidationError) -> str:
    first = error.errors(include_url=False)[0]
    field = ".".join(str(part) for part in first["loc"])
    message = str(first["msg"]).removeprefix("Value error, ")
    return f"{field} is {first.get('input')!r}; {message[0].lower()}{message[1:]}."


def _given(**options: Any) -> dict[str, Any]:
    """Options that were given: the others come from the environment or their defaults."""
    return {name: value for name, value in options.items() if value is not None}


@app.command()
def hub(
    data: Annotated[Path | None, typer.Option(help="Folder of the database.")] = None,
    port: Annotated[int | None, typer.Option(help="TCP port.")] = None,
    host: Annotated[str | None, typer.Option(help="Loopback address to listen on.")] = None,
    web: Annotated[Path | None, typer.Option(help="Folder of the built web application.")] = None,
    tls_cert: Annotated[Path | None, typer.Option(help="Certificate chain (PEM).")] = None,
    tls_key: Annotated[Path | None, typer.Option(help="Private key (PEM).")] = None,
) -> None:
    """Run the hub: take results, judge and show them."""
    from kuppel.hub.sealing import KeyUnusable
    from kuppel.hub.server import CertificateUnusable, PortTaken, run_hub
    from kuppel.hub.settings import HubSettings
    from kuppel.store.database import DatabaseUnusable

    try:
        settings = HubSettings(**_given(data=data, port=port, host=host, web=web, tls_cert=tls_cert, tls_key=tls_key))
        _configure_log(settings.log_level)
        run_hub(settings)
    except ValidationError as error:
        raise _fail(_told(error)) from None
    except (PortTaken, DatabaseUnusable, KeyUnusable, CertificateUnusable) as error:
        raise _fail(str(error)) from None


@app.command("reset-password")
def reset_password(
    name: Annotated[str, typer.Argument(help="The name with which the person signs in.")],
    data: Annotated[Path, typer.Option(help="Folder of the hub's database.")] = Path(".kuppel"),
) -> None:
    """Give a person a one-time password; the old one and every session of that person end at once."""
    from kuppel.hub.engine.access import reset_password as reset
    from kuppel.hub.hub import now_us

    with _stored(data) as (writer, _):
        password = reset(writer, name, now_us())
    if password is None:
        raise _fail(f"There is nobody called {name} in {data}. Look at Access in the application, or sign in as admin.")
    typer.echo(f"One-time password of {name}: {password}")


@app.command("enrolment-token")
def enrolment_token(
    data: Annotated[Path, typer.Option(help="Folder of the hub's database.")] = Path(".kuppel"),
    uses: Annotated[int, typer.Option(min=1, max=1000, help="How many machines may join with it.")] = 1,
    hours: Annotated[float, typer.Option(min=0.1, max=2160, help="For how long it is good, in h.")] = 1,
    kind: Annotated[str, typer.Option(help="public, site, mobile or personal.")] = "site",
) -> None:
    """Make a token with which agents join this hub, and print it this once."""
    from kuppel.core.duration import HOUR_US
    from kuppel.hub.engine.access import make_enrolment_token
    from kuppel.hub.hub import now_us

    with _stored(data) as (writer, _):
        typer.echo(make_enrolment_token(writer, kind, uses, round(hours * HOUR_US), now_us()))


_DATABASE_URL = "KUPPEL_DATABASE_URL"

store = typer.Typer(no_args_is_help=True, help="Look after the database: check, compact, backup, restore.")
app.add_typer(store, name="store")
with contextlib.suppress(ModuleNotFoundError):  # the package of an agent has no made-up world in it
    from kuppel.lab.command import app as lab

    app.add_typer(lab, name="lab")
_Data = Annotated[Path, typer.Option(help="Folder of the hub's database.")]


@store.command("check")
def check_store(data: _Data = Path(".kuppel")) -> None:
    """Read everything and say what is damaged, and what takes how much room."""
    from kuppel.store.maintenance import check

    with _stored(data) as (_, database):
        report = check(database)
    for name, size in report.bytes_by_table.items():
        if size >= 100_000:
            typer.echo(f"{name:<20} {size / 1e6:>10,.1f} MB")
    for words in (*report.broken, *report.damaged):
        typer.echo(words, err=True)
    if not report.is_sound:
        raise _fail("The database is damaged; the days named above cannot be read, all others can. Restore a backup.")
    typer.echo(f"Sound: {report.blocks:,} blocks read.")


@store.command("compact")
def compact_store(data: _Data = Path(".kuppel")) -> None:
    """Turn every day that is over into blocks now; a running hub does so by itself."""
    from kuppel.hub.hub import now_us
    from kuppel.store.compaction import Compaction

    with _stored(data) as (writer, database):
        finished = Compaction(database, writer).run(now_us())
    typer.echo(f"{finished} days were finished.")


@store.command("export")
def export_store(
    to: Annotated[Path, typer.Argument(help="The Parquet file to write.")],
    from_: Annotated[datetime, typer.Option("--from", help="Start (UTC).")],
    until: Annotated[datetime | None, typer.Option("--to", help="End (UTC); now if left out.")] = None,
    stream: Annotated[list[int] | None, typer.Option(help="Number of a stream; may be repeated. All if left out.")] = None,
    data: _Data = Path(".kuppel"),
) -> None:
    """Write every run of a window to an Apache Parquet file: one row a run, a column for each quantity."""
    from kuppel.core.error import SettingsError
    from kuppel.hub.engine import export
    from kuppel.hub.hub import now_us
    from kuppel.hub.readers import Readers
    from kuppel.store.inventory import NotFound

    start_us = round(from_.replace(tzinfo=UTC).timestamp() * 1e6)
    end_us = now_us() if until is None else round(until.replace(tzinfo=UTC).timestamp() * 1e6)
    if end_us <= start_us:
        raise _fail("--from must lie before --to.")
    if to.exists():
        raise _fail(f"{to} exists already. Name another file.")
    with _stored(data) as (_, database):
        try:
            streams = export.chosen(database, stream or [])
        except (NotFound, SettingsError) as error:
            raise _fail(f"Cannot export: {error}.") from None
        with to.open("wb") as file:
            for piece in export.table(Readers(database, 0), streams, start_us, end_us):
                file.write(piece)
    typer.echo(f"{to}: {to.stat().st_size / 1e6:,.1f} MB of {len(streams)} streams.")


@store.command("backup")
def back_up_store(to: Annotated[Path, typer.Argument(help="The file to write.")], data: _Data = Path(".kuppel")) -> None:
    """Copy the database while the hub runs. Keep the file secret-key apart from it."""
    from kuppel.store.database import DatabaseUnusable
    from kuppel.store.maintenance import back_up

    _only_a_file("pg_dump")
    try:
        back_up(data / "kuppel.db", to)
    except DatabaseUnusable as error:
        raise _fail(str(error)) from None
    typer.echo(f"Copied to {to} and read back.")


@store.command("restore")
def restore_store(
    copy: Annotated[Path, typer.Argument(help="A copy made by backup.")], data: _Data = Path(".kuppel")
) -> None:
    """Put a copy in the database's place, while no hub runs; what was there is kept beside it."""
    from kuppel.store.database import DatabaseUnusable
    from kuppel.store.maintenance import restore

    _only_a_file("pg_restore")
    try:
        before = restore(copy, data / "kuppel.db")
    except DatabaseUnusable as error:
        raise _fail(str(error)) from None
    typer.echo("Restored." + (f" What was there is now {before}." if before else ""))


def _only_a_file(instead: str) -> None:
    if os.environ.get(_DATABASE_URL):
        raise _fail(f"The database is on a PostgreSQL server: use its own {instead}.")


@contextlib.contextmanager
def _stored(data: Path) -> Iterator[tuple[Any, Any]]:
    """Writer and database of a hub whose database is there already; the hub itself may be running."""
    from kuppel.store.database import Database, DatabaseUnusable
    from kuppel.store.writer import Writer

    place = os.environ.get(_DATABASE_URL) or data / "kuppel.db"
    if isinstance(place, Path) and not place.exists():
        raise _fail(f"There is no hub's database in {data}. Name its folder with --data.")
    try:
        database = Database(place)
    except DatabaseUnusable as error:
        raise _fail(str(error)) from None
    writer = Writer(database)
    try:
        yield writer, database
    finally:
        writer.close()
        database.close()


@app.command()
def reflect(
    address: Annotated[str, typer.Option(help="Address to listen on.")] = "0.0.0.0",
    port: Annotated[int, typer.Option(min=0, max=65_535, help="UDP port for two-way packets; 0 takes a free one.")] = 862,
    speech_port: Annotated[int | None, typer.Option(min=0, max=65_535, help="UDP port to send speech back on.")] = None,
    data_port: Annotated[int | None, typer.Option(min=0, max=65_535, help="TCP port for throughput probes.")] = None,
    key: Annotated[
        str | None,
        typer.Option(help="Shared key; only who has it is answered, but for speech. Better in KUPPEL_REFLECT_KEY."),
    ] = None,
    clock_error_us: Annotated[
        int | None, typer.Option(min=1, help="How far this clock may be off UTC, in µs; left out when it is not known.")
    ] = None,
) -> None:
    """Be the far end of probes until stopped: two-way packets (STAMP, RFC 8762), speech and data if asked for."""
    from kuppel.probes.kernel.reflectors import ReflectorPorts, Reflectors
    from kuppel.probes.net import NetError

    shared = key or os.environ.get("KUPPEL_REFLECT_KEY")
    try:
        reflectors = Reflectors(address, ReflectorPorts(port, speech_port, data_port), shared, clock_error_us)
    except NetError as error:
        remedy = "Ports below 1024 need the right to listen on them; choose another with --port."
        raise _fail(f"Cannot listen: {error.note}. {remedy}") from None
    for one in (signal.SIGINT, signal.SIGTERM):
        signal.signal(one, lambda *_: reflectors.close())
    told = ", ".join(f"{name.replace('_', '-')} on port {number}" for name, number in reflectors.ports.items())
    typer.echo(f"Answering at {address}: {told}, {'authenticated' if shared else 'unauthenticated'}.", nl=True)
    for thread in reflectors.start():
        thread.join()
    for name, (answered, dropped) in reflectors.counted.items():
        typer.echo(f"{name.replace('_', '-')}: {answered:,} packets answered, {dropped:,} dropped.")


@app.command()
def agent(
    hub: Annotated[str | None, typer.Option(help="The hub's address, http:// or https://.")] = None,
    token: Annotated[str | None, typer.Option(help="Enrolment token; better in KUPPEL_AGENT_TOKEN.")] = None,
    name: Annotated[str | None, typer.Option(help="Name of this vantage point.")] = None,
    kind: Annotated[str | None, typer.Option(help="public, site, mobile or personal.")] = None,
    place: Annotated[str | None, typer.Option(help="Where it stands, in words.")] = None,
    provider: Annotated[str | None, typer.Option(help="Its access provider.")] = None,
    country: Annotated[str | None, typer.Option(help="The country that it stands in.")] = None,
    person: Annotated[str | None, typer.Option(help="Whose machine it is.")] = None,
    state: Annotated[Path | None, typer.Option(help="Folder for its token and spool.")] = None,
    source: Annotated[str | None, typer.Option(help="Source address of probes that are bound to nothing.")] = None,
    gpsd: Annotated[str | None, typer.Option(help="HOST:PORT of a gpsd, on a machine that moves.")] = None,
    authority: Annotated[Path | None, typer.Option(help="Certificates (PEM) to trust for the hub.")] = None,
    reflect_port: Annotated[
        int | None, typer.Option(help="UDP port to answer two-way test packets on; key in KUPPEL_AGENT_REFLECT_KEY.")
    ] = None,
    speech_port: Annotated[int | None, typer.Option(help="UDP port to send speech back on.")] = None,
    data_port: Annotated[int | None, typer.Option(help="TCP port for throughput probes of others.")] = None,
) -> None:
    """Run an agent: measure from this machine and deliver to a hub."""
    from kuppel.agent.process import Agent, EnrolmentRefused
    from kuppel.agent.settings import AgentSettings
    from kuppel.probes.net import NetError

    _configure_log("info")
    options = _given(
        hub=hub,
        name=name,
        kind=kind,
        place=place,
        provider=provider,
        country=country,
        person=person,
        state=state,
        source=source,
        gpsd=gpsd,
        authority=authority,
        reflect_port=reflect_port,
        speech_port=speech_port,
        data_port=data_port,
    )
    if token is not None:
        options["token"] = SecretStr(token)
    try:
        settings = AgentSettings(**options)
        _run_until_stopped(Agent(settings).run())
    except ValidationError as error:
        raise _fail(_told(error)) from None
    except EnrolmentRefused as error:
        raise _fail(f"The hub refused this agent: {error}") from None
    except NetError as error:
        raise _fail(f"Cannot answer test packets: {error.note}. Choose another port.") from None
    except OSError as error:
        raise _fail(f"{error.filename or 'state'}: {error.strerror}. Choose a folder to write to with --state.") from None


@app.command()
def probe(
    kind: Annotated[
        str, typer.Argument(help="icmp, tcp, udp, dns, http, tls, path, voice, throughput, transaction, page, host.")
    ],
    settings: Annotated[
        list[str] | None,
        typer.Argument(help="What to measure, then settings as name=value; a value may be JSON, or @FILE with JSON in it."),
    ] = None,
    source: Annotated[str | None, typer.Option(help="Source address.")] = None,
    interface: Annotated[str | None, typer.Option(help="Interface.")] = None,
    attempts: Annotated[int, typer.Option(min=1, max=5, help="How many tries.")] = 1,
    as_json: Annotated[bool, typer.Option("--json", help="Print the whole result as JSON.")] = False,
) -> None:
    """Run a probe of any kind once, from this machine and without a hub."""
    from kuppel.agent.delivery import delivered
    from kuppel.agent.telling import told
    from kuppel.core.error import SettingsError
    from kuppel.probes.kernel import KernelNet
    from kuppel.probes.net import Binding
    from kuppel.probes.registry import kind_named
    from kuppel.probes.repetition import run_probe

    try:
        found = kind_named(kind)
        parsed = found.parse(_settings(found, settings or []))
    except SettingsError as error:
        raise _fail(f"{error}.") from None
    net = KernelNet()
    binding = Binding(interface, source)
    result = asyncio.run(run_probe(found, parsed, net, binding=binding, attempts=attempts, attempt_gap_us=500_000))
    net.close()
    if as_json:
        typer.echo(delivered(1, result).model_dump_json(indent=2, exclude={"sequence", "stream"}))
    else:
        typer.echo("\n".join(told(found, result)))
    raise typer.Exit(0 if result.is_ok else 1)


def _settings(kind: Any, words: list[str]) -> dict[str, Any]:
    """Settings from words: one without a name is the first setting that must be given."""
    needed = next((name for name, field in kind.settings.model_fields.items() if field.is_required()), None)
    found: dict[str, Any] = {}
    for number, word in enumerate(words):
        name, equals, value = word.partition("=")
        if number == 0 and needed is not None and (not equals or name not in kind.settings.model_fields):
            name, value = needed, word
        found[name] = _value(value)
    return found


def _value(text: str) -> Any:
    if text.startswith("@"):
        try:
            text = Path(text[1:]).read_text()
        except OSError as error:
            raise _fail(f"{text[1:]}: {error.strerror}.") from None
    try:
        return json.loads(text)
    except ValueError:
        return text


@app.command("self-test")
def self_test(hub: Annotated[str, typer.Option(help="The hub's address.")]) -> None:
    """Look whether this machine can be a vantage point, and say what is missing."""
    from kuppel.agent.selftest import self_test as run

    tested = run(hub)
    for one in tested:
        typer.echo(f"{'good' if one.is_good else 'missing' if one.is_needed else 'without'}  {one.name}: {one.words}")
    raise typer.Exit(1 if any(one.is_needed and not one.is_good for one in tested) else 0)


@app.command()
def collected(state: Annotated[Path, typer.Option(help="The agent's folder.")] = Path("kuppel-agent")) -> None:
    """Say what the agent on this machine measures and collects, for the person whose machine it is."""
    from kuppel.probes.registry import KINDS
    from kuppel.probes.secrecy import MASK
    from kuppel.wire.delivery import Assignment

    kept = state / "assignment.json"
    if not kept.exists():
        raise _fail(f"No agent has run in {state} yet, so nothing is collected. Name its folder with --state.")
    probes = Assignment.model_validate_json(kept.read_bytes()).probes
    typer.echo(f"{len(probes)} probes run on this machine.")
    for one in probes:
        kind = KINDS.get(one.kind)
        secret = kind.parse(one.settings).secret_part() if kind is not None else {}
        shown = {
            name: MASK if name in secret else value
            for name, value in one.settings.items()
            if value not in ("", None, [], {})
        }
        told = ", ".join(f"{name} {value}" for name, value in shown.items())
        typer.echo(f"{kind.label if kind is not None else one.kind}: {told[:300]}")
    machine = [one for one in probes if one.kind == "host"]
    what = "processor, memory, disks, network cards, Wi-Fi" if machine else "nothing"
    more = [name for name in ("connections", "processes") if any(one.settings.get(name) for one in machine)]
    typer.echo(f"Of the machine itself: {', '.join([what, *more])}.")


@app.command()
def demo(
    folder: Annotated[Path, typer.Option(help="Folder for the demo's data.")] = Path(".demo"),
    web: Annotated[Path | None, typer.Option(help="Folder of the built web application.")] = None,
    port: Annotated[int, typer.Option(help="TCP port of the hub.")] = 8470,
    fresh: Annotated[bool, typer.Option("--fresh", help="Forget the demo's data and begin anew.")] = False,
    days: Annotated[int, typer.Option(min=1, max=400, help="Days of history that a first start makes up.")] = 45,
    seed: Annotated[int, typer.Option(min=0, help="What the made-up world is drawn from.")] = 7,
    reload: Annotated[bool, typer.Option("--reload", help="Start the hub anew when its sources change.")] = False,
) -> None:
    """Run the made-up world: a hub with its past, and vantage points that measure on, over a simulated internet."""
    from kuppel.hub.server import PortTaken
    from kuppel.lab.demo import DemoFailed, run_demo
    from kuppel.store.database import DatabaseUnusable

    _configure_log("warning")
    try:
        _run_until_stopped(run_demo(folder, web, port, is_fresh=fresh, is_reloading=reload, days=days, seed=seed))
    except (PortTaken, DatabaseUnusable, DemoFailed) as error:
        raise _fail(str(error)) from None


@app.command("openapi")
def print_openapi() -> None:
    """Print the API's description (OpenAPI) as JSON."""
    from kuppel.hub.app import create_app
    from kuppel.hub.settings import HubSettings

    typer.echo(json.dumps(create_app(HubSettings()).openapi(), indent=2, sort_keys=True))


def _run_until_stopped(work: Any) -> None:
    """Run a coroutine until it ends or a signal asks it to: Ctrl-C and SIGTERM both let it clean up."""

    async def main() -> None:
        task = asyncio.ensure_future(work)
        loop = asyncio.get_running_loop()
        for one in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(one, task.cancel)
        with contextlib.suppress(asyncio.CancelledError):
            await task

    asyncio.run(main())


def main() -> None:
    app()


if __name__ == "__main__":
    main()
