"""Reading what a server says, within bounds: so many octets a line and in all, and so much time, however it drips."""

from __future__ import annotations

import socket
import ssl
import time

_BLOCK = 1 << 14


class TooMuchError(OSError):
    """A server that says more than any server has to say, or takes longer than it may."""


class Reader:
    """Lines and octets from a socket. `until` is the moment (time.monotonic) after which nothing is waited for."""

    def __init__(self, sock: socket.socket, most: int) -> None:
        self.sock = sock
        self.until: float | None = None
        self._most = most
        self._here = b""
        self._ended = False

    def allow(self, most: int) -> None:
        """From now on so many octets in all."""
        self._most = most

    def line(self, most: int) -> bytes:
        """The next line with its end; nothing where the server has gone. Raises TooMuchError, TimeoutError, OSError."""
        while b"\n" not in self._here:
            if len(self._here) > most:
                raise TooMuchError("the server's answer does not end")
            block = self._more()
            if not block:
                self._here = b""
                return b""
            self._here += block
        line, _, self._here = self._here.partition(b"\n")
        if len(line) > most:
            raise TooMuchError("the server's answer does not end")
        return line + b"\n"

    def octets(self, number: int) -> bytes:
        """So many octets. Raises as `line` does."""
        if number > self._most:
            raise TooMuchError("the server's answer is too long")
        while len(self._here) < number:
            block = self._more()
            if not block:
                break
            self._here += block
        found, self._here = self._here[:number], self._here[number:]
        return found

    def some(self, most: int) -> bytes:
        """What is there, or comes next, of so many octets at most; nothing where the server has gone. Raises as `line`
        does."""
        self._here = self._here or self._more()
        found, self._here = self._here[:most], self._here[most:]
        return found

    def _more(self) -> bytes:
        if self._ended:
            return b""
        if self.until is not None:
            left = self.until - time.monotonic()
            if left <= 0:
                raise TimeoutError("no answer in time")
            self.sock.settimeout(left)
        block = self.sock.recv(_BLOCK)
        self._most -= len(block)
        if self._most < 0:
            raise TooMuchError("the server's answer does not end")
        return block

    @property
    def has_unread(self) -> bool:
        """Whether something was said that nobody has read yet, or the line has ended."""
        if self._here or self._ended:
            return True
        before = self.sock.gettimeout()
        self.sock.settimeout(0)
        try:
            # With TLS there may be octets on the line that are no words of the server's.
            block = self.sock.recv(_BLOCK)
        except (BlockingIOError, ssl.SSLWantReadError):
            return False
        except OSError:
            block = b""
        finally:
            self.sock.settimeout(before)
        self._here, self._ended = block, not block
        return True

    @property
    def has_kept(self) -> bool:
        """Whether something of what was read is left over."""
        return bool(self._here)
