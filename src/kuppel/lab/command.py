"""The commands of the made-up world: begin and end faults while the demo runs, and write a corpus of labelled ones."""

from pathlib import Path
from typing import Annotated, Any

import typer

app = typer.Typer(no_args_is_help=True, help="The made-up world: faults by hand, and labelled ones for judging.")

Port = Annotated[int, typer.Option(help="TCP port of the demo's hub.")]
_PORT = 8470


def _asked(method: str, path: str, port: int, **options: Any) -> Any:
    import httpx

    from kuppel.lab.preparation import events_port

    try:
        answer = httpx.request(method, f"http://127.0.0.1:{events_port(port)}/api/{path}", trust_env=False, **options)
    except httpx.HTTPError:
        raise _failed(f"No demo answers beside port {port}. Start one with ./run demo, or name its port.") from None
    if answer.is_error:
        raise _failed(str(answer.json().get("detail", answer.text)))
    return answer.json()


def _failed(words: str) -> typer.Exit:
    typer.echo(words, err=True)
    return typer.Exit(1)


def _told(fault: dict[str, Any]) -> str:
    until = "open" if fault["until"] is None else f"until {_minute(fault['until'])}"
    since = _minute(fault["from"])
    return f"{fault['id']:4}  {fault['kind']:20} {fault['where']:28} {fault['domain']:12} since {since}, {until}"


def _minute(time: str) -> str:
    """An RFC 3339 time in UTC, to the minute."""
    return f"{time[:10]} {time[11:16]} UTC"


@app.command()
def kinds(port: Port = _PORT) -> None:
    """What faults there are, and where each can be."""
    for one in _asked("GET", "kinds", port):
        typer.echo(f"{one['kind']}: {one['words']} ({one['domain']})")
        typer.echo(f"    {', '.join(one['places'])}")


@app.command()
def faults(
    port: Port = _PORT, every: Annotated[bool, typer.Option("--all", help="Those that are over, too.")] = False
) -> None:
    """The faults that are open now, with their labels."""
    found = _asked("GET", "faults", port, params={"is_open": not every})
    for one in found:
        typer.echo(_told(one))
    if not found:
        typer.echo("Nothing is wrong in the made-up world.")


@app.command()
def begin(
    kind: Annotated[str, typer.Argument(help="What kind; kuppel lab kinds names them.")],
    where: Annotated[str, typer.Argument(help="Where.")],
    strength: Annotated[float, typer.Option(help="1 for a usual one, more for a worse one.")] = 1.0,
    minutes: Annotated[float | None, typer.Option(help="How long; until it is ended if left out.")] = None,
    port: Port = _PORT,
) -> None:
    """Begin a fault now."""
    body = {"kind": kind, "where": where, "strength": strength, "minutes": minutes}
    typer.echo(_told(_asked("POST", "faults", port, json=body)))


@app.command()
def end(number: Annotated[int, typer.Argument(help="The fault's number.")], port: Port = _PORT) -> None:
    """End a fault now."""
    typer.echo(_told(_asked("DELETE", f"faults/{number}", port)))


@app.command()
def corpus(
    seed: Annotated[int, typer.Option(help="Another seed, other faults.")] = 1,
    count: Annotated[int, typer.Option("--faults", min=1, help="How many cases.")] = 100,
    networks: Annotated[
        str, typer.Option(help="Networks, separated by commas: skerry, or maps of topohub such as topozoo/Abilene.")
    ] = "skerry",
    out: Annotated[Path | None, typer.Option(help="File to write; the terminal if left out.")] = None,
) -> None:
    """Write labelled faults, with everything that was measured before and during them, as JSON Lines."""
    from kuppel.lab.corpus import NoSuchNetwork, cases, network, written

    try:
        chosen = [network(one.strip()) for one in networks.split(",")]
    except NoSuchNetwork as error:
        raise _failed(str(error)) from None
    if out is None:
        for one in cases(chosen, seed, count):
            typer.echo(written(one))
        return
    with out.open("w") as file, typer.progressbar(cases(chosen, seed, count), length=count, label="Measuring") as bar:
        for one in bar:
            file.write(written(one) + "\n")
