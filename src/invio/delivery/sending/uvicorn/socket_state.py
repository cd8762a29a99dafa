"""The sending side of a connection: a duplicate of its socket, and what of all that was sent has arrived.

The kernel counts for a connection, not for an answer: how many bytes were acknowledged, and how many
were not yet. What that says of one answer among others is worked out by its `Exchange`.
"""

from __future__ import annotations

import os
import socket
import struct
from contextlib import suppress
from fcntl import ioctl
from typing import Any

# linux/sockios.h; termios.TIOCOUTQ is the same number where it exists
_SIOCOUTQ = 0x5411
_SIOCOUTQNSD = 0x894B  # linux/sockios.h: what of that was not sent yet
_CLOSED = 7  # TCP_CLOSE of linux/tcp_states.h, as tcpi_state has it
_INT, _ROOM = struct.Struct("i"), bytes(4)
# linux/tcp.h: tcpi_bytes_acked in struct tcp_info
_BYTES, _ACKED, _INFO = struct.Struct("Q"), 120, 128


class SocketState:
    """Of one connection."""

    __slots__ = ("_acknowledged", "_open", "_said_end", "_transport", "_unacknowledged", "_unsent", "socket")

    def __init__(self, transport: Any) -> None:
        """Raises OSError: as many files are open as may be."""
        self._transport = transport
        # A duplicate: what is sent past the transport goes by it, and it outlives the transport by a moment.
        self.socket = socket.socket(fileno=os.dup(transport.get_extra_info("socket").fileno()))
        self.socket.setblocking(False)  # noqa: FBT003 - the socket takes it by its place
        self._open = True
        self._unacknowledged = self._acknowledged = self._unsent = 0  # at the end
        self._said_end = False

    def unacknowledged(self) -> int:
        """Bytes that were sent, or wait in the transport's buffer, and that the other side has not got yet."""
        if not self._open:
            return self._unacknowledged
        left: int = self._transport.get_write_buffer_size()
        if left:
            return left + _left_in(self.socket)
        # The end of our side counts as a byte, too, and nobody waits for that.
        return max(0, _left_in(self.socket) - self._said_end)

    def unsent(self) -> int:
        """Bytes that wait here, of which nothing is on the wire yet. At the end: that were taken back."""
        if not self._open:
            return self._unsent
        left: int = self._transport.get_write_buffer_size()
        return left + _not_sent(self.socket)

    def is_closed(self) -> bool:
        """Whether the other side has reset the connection."""
        try:
            return self.socket.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 1)[0] == _CLOSED
        except OSError:
            return True

    def acknowledged(self) -> int:
        """Bytes that the other side has acknowledged, the connection's opening and its end included."""
        return _acknowledged_by(self.socket) if self._open else self._acknowledged

    def position(self) -> int | None:
        """What `acknowledged` comes to when all has arrived that was sent so far; None where that is not known."""
        if not self._open or self.socket.family == socket.AF_UNIX or not hasattr(socket, "TCP_INFO"):
            return None
        for _ in range(5):
            before, left = self.acknowledged(), self.unacknowledged()
            if before == self.acknowledged():  # nothing came in between
                break
        return before + left

    def say_end(self) -> None:
        """Ends our side behind all that was sent, for the other to learn of it at once: RFC 9112 §9.6.

        Not while something waits in the transport's buffer.
        """
        if self._said_end or not self._open or self._transport.get_write_buffer_size():
            return
        self._said_end = True
        with suppress(OSError):  # the other side is gone
            self.socket.shutdown(socket.SHUT_WR)

    def lost(self) -> None:
        """The connection is lost: what is known of it now is the last that will be."""
        left, acknowledged, self._unsent = self.unacknowledged(), self.acknowledged(), self.unsent()
        self._open, self._unacknowledged, self._acknowledged = False, left, acknowledged


def _acknowledged_by(sock: socket.socket) -> int:
    try:
        return _BYTES.unpack_from(sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, _INFO), _ACKED)[0]  # type: ignore[no-any-return]
    except (OSError, struct.error):
        return 0


def _not_sent(sock: socket.socket) -> int:
    try:
        return _INT.unpack(ioctl(sock.fileno(), _SIOCOUTQNSD, _ROOM))[0]  # type: ignore[no-any-return]
    except OSError:
        return 0


def _left_in(sock: socket.socket) -> int:
    try:
        return _INT.unpack(ioctl(sock.fileno(), _SIOCOUTQ, _ROOM))[0]  # type: ignore[no-any-return]
    except OSError:
        return 0
