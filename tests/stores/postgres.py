"""A PostgreSQL server of its own for a test, from Debian's package: on loopback, in a folder, gone with it."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest


@contextmanager
def postgres(folder: Path) -> Iterator[str]:
    """The SQLAlchemy URL of an empty database."""
    programs = max(Path("/usr/lib/postgresql").glob("*/bin"), default=None)
    if programs is None:
        pytest.skip("PostgreSQL is not installed; 'make test' installs it")
    with socket.socket() as asked:
        asked.bind(("127.0.0.1", 0))
        port = asked.getsockname()[1]
    data = folder / "postgres"
    data.mkdir(mode=0o700)
    # It refuses to be run by root.
    other = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    if other:
        shutil.chown(data, "postgres")
        for above in (folder, *folder.parents):
            if not above.stat().st_mode & 0o001:
                above.chmod(above.stat().st_mode | 0o111)

    def run(program: str, *arguments: str) -> None:
        done = subprocess.run(
            [*other, str(programs / program), *arguments], capture_output=True, text=True, cwd="/", timeout=60
        )
        assert done.returncode == 0, done.stdout + done.stderr

    run("initdb", "-D", str(data), "-U", "survey", "-A", "trust", "-E", "UTF8", "--no-sync")
    options = f"-c listen_addresses=127.0.0.1 -c port={port} -c unix_socket_directories={data} -c fsync=off"
    run("pg_ctl", "-D", str(data), "-w", "-l", str(data / "log"), "-o", options, "start")
    try:
        yield f"postgresql+psycopg://survey@127.0.0.1:{port}/postgres"
    finally:
        run("pg_ctl", "-D", str(data), "-w", "-m", "immediate", "stop")
