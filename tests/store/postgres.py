"""A PostgreSQL server for tests: Debian's own, in a folder of its own, on a socket, gone with the process."""

import atexit
import itertools
import os
import shutil
import subprocess
import tempfile
from functools import cache
from pathlib import Path

_numbers = itertools.count(1)


@cache
def server() -> str | None:
    """The folder of the running server's socket; None where there is no PostgreSQL."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if not found:
        return None
    programs = found[-1].parent
    folder = Path(tempfile.mkdtemp(prefix="kuppel-pg-"))
    data = folder / "data"
    # It refuses to run as root.
    before = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    if before:
        shutil.chown(folder, "postgres")

    def run(*command: str) -> None:
        done = subprocess.run([*before, *command], cwd="/", capture_output=True, text=True, check=False)
        if done.returncode:
            raise RuntimeError(f"{command[0]} failed: {done.stderr.strip() or done.stdout.strip()}")

    run(
        str(programs / "initdb"),
        "-D",
        str(data),
        "-U",
        "kuppel",
        "-A",
        "trust",
        "-E",
        "UTF8",
        "--locale=C.UTF-8",
        "--no-sync",
    )
    options = f"-c listen_addresses='' -c fsync=off -c max_connections=50 -k {folder}"
    control = str(programs / "pg_ctl")
    run(control, "-D", str(data), "-o", options, "-l", str(folder / "log"), "-w", "start")

    @atexit.register
    def stop() -> None:
        subprocess.run(
            [*before, control, "-D", str(data), "-m", "immediate", "stop"], cwd="/", capture_output=True, check=False
        )
        shutil.rmtree(folder, ignore_errors=True)

    return str(folder)


def fresh_url() -> str:
    """The URL of a new, empty database."""
    import psycopg

    folder = server()
    name = f"test_{next(_numbers)}"
    with psycopg.connect(f"postgresql://kuppel@/postgres?host={folder}", autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name}")
    return f"postgresql://kuppel@/{name}?host={folder}"
