"""Who else on the machine has rights on what the service makes."""

from __future__ import annotations

import os
import socket
import stat
from pathlib import Path

import pytest

from invio.service.permissions import bind_unix


@pytest.mark.parametrize("umask", [0o000, 0o022, 0o077], ids="{:03o}".format)
@pytest.mark.parametrize("mode", [0o600, 0o660], ids="{:03o}".format)
def test_a_unix_socket_has_its_rights_whatever_the_umask(tmp_path: Path, umask: int, mode: int) -> None:
    path, earlier = tmp_path / "one.sock", os.umask(umask)
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as listener:
            bind_unix(listener, os.fspath(path), mode)
    finally:
        left = os.umask(earlier)
    assert (stat.S_IMODE(path.stat().st_mode), left) == (mode, umask)


def test_at_no_moment_others_have_more_and_the_process_s_umask_is_left_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another thread makes a folder at any moment: with the umask of a socket, nobody could enter it."""
    earlier, path = os.umask(0), tmp_path / "one.sock"
    try:
        monkeypatch.setattr("os.umask", lambda mask: pytest.fail(f"the umask was set to {mask:o}"))
        monkeypatch.setattr("os.chmod", lambda *_: None)
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as listener:
            bind_unix(listener, os.fspath(path), 0o600)
        monkeypatch.undo()
    finally:
        os.umask(earlier)
    assert stat.S_IMODE(path.stat().st_mode) == 0o600, "from its first moment on"
