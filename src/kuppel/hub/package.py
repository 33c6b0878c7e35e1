"""The agent's package, made from what this hub runs itself: agents are of the version of their hub, from nowhere else."""

import base64
import functools
import hashlib
import importlib.metadata
import io
import json
import re
import zipfile
from pathlib import Path

from kuppel import __version__

# What only the hub imports, of what this package needs: agents are spared it.
_HUB_ONLY = frozenset({"alembic", "argon2-cffi", "fastapi", "sqlalchemy", "starlette", "uvicorn"})
_LEFT_OUT = ("hub", "lab", "store/migrations")


def wheel_name() -> str:
    return f"kuppel-{__version__}-py3-none-any.whl"


@functools.cache
def wheel() -> bytes:
    """The package as a wheel (PyPA, binary distribution format), the same octets each time."""
    root = Path(__file__).parents[1]
    files: dict[str, bytes] = {}
    for path in sorted(root.rglob("*")):
        name = path.relative_to(root).as_posix()
        is_code = path.suffix == ".py" or path.name == "py.typed"
        if is_code and not name.startswith(tuple(f"{one}/" for one in _LEFT_OUT)):
            files[f"kuppel/{name}"] = path.read_bytes()
    info = f"kuppel-{__version__}.dist-info"
    needs = "".join(f"Requires-Dist: {one}\n" for one in _needs()) + "Provides-Extra: page\n"
    about = "Metadata-Version: 2.1\nName: kuppel\nVersion: {}\nRequires-Python: >=3.11\n{}"
    files[f"{info}/METADATA"] = about.format(__version__, needs).encode()
    files[f"{info}/WHEEL"] = b"Wheel-Version: 1.0\nGenerator: kuppel\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    files[f"{info}/entry_points.txt"] = b"[console_scripts]\nkuppel = kuppel.cli:main\n"
    files[f"{info}/RECORD"] = _record(files, info).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, octets in files.items():
            archive.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), octets, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _needs() -> list[str]:
    """What this package says that it needs, without the hub's own and what is for developers; the part for pages stays."""
    found = []
    for one in importlib.metadata.requires("kuppel") or []:
        name = re.split(r"[^A-Za-z0-9_.-]", one, maxsplit=1)[0].lower()
        is_extra = "extra ==" in one
        if name not in _HUB_ONLY and (not is_extra or "page" in one.partition("extra ==")[2]):
            found.append(one)
    return found


def _record(files: dict[str, bytes], info: str) -> str:
    lines = []
    for name, octets in files.items():
        digest = base64.urlsafe_b64encode(hashlib.sha256(octets).digest()).rstrip(b"=").decode()
        lines.append(f"{name},sha256={digest},{len(octets)}")
    return "\n".join([*lines, f"{info}/RECORD,,", ""])


def joining(hub: str) -> str:
    """The program that a machine runs to join: it needs Python alone, and leaves everything in one folder."""
    return _JOINING.replace("@HUB@", json.dumps(hub)).replace("@WHEEL@", json.dumps(wheel_name()))


_JOINING = '''"""Puts a Kuppel agent on this machine: an environment of its own, the hub's package, a self-test."""
import os
import subprocess
import sys
import urllib.request
import venv
from pathlib import Path

HUB, WHEEL = @HUB@, @WHEEL@


def say(words):
    print(words, file=sys.stderr, flush=True)


def main():
    if sys.version_info < (3, 11):
        sys.exit("Python 3.11 or newer is needed; this is %d.%d." % sys.version_info[:2])
    if not os.environ.get("KUPPEL_AGENT_TOKEN"):
        sys.exit("Put the enrolment token into KUPPEL_AGENT_TOKEN, as in the line that the hub gave you.")
    home = Path(os.environ.get("KUPPEL_AGENT_HOME") or Path.home() / ".kuppel-agent")
    home.mkdir(parents=True, exist_ok=True)
    python = home / "venv" / "bin" / "python"
    if not python.exists():
        say("Making an environment in %s" % home)
        venv.create(home / "venv", with_pip=True)
    package = home / WHEEL
    with urllib.request.urlopen(HUB + "/api/agents/package/" + WHEEL) as answer:
        package.write_bytes(answer.read())
    say("Installing the agent and what it needs")
    subprocess.run([python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", package], check=True)
    kuppel = home / "venv" / "bin" / "kuppel"
    tested = subprocess.run([kuppel, "self-test", "--hub", HUB])
    if tested.returncode:
        sys.exit("The self-test failed; what is above says what to mend. Then paste the line again.")
    say("Starting the agent; its state is in %s" % (home / "state"))
    os.execv(kuppel, [str(kuppel), "agent", "--hub", HUB, "--state", str(home / "state"), *sys.argv[1:]])


main()
'''
