"""A web process in which nobody waits for slow clients: a request comes to a thread when it is there.

Whoever sends a byte a second costs a few bytes of memory. Requests that are there are taken by
people in turn, not in the order they came. Whoever takes an answer slowly has a thread for as long as nobody waits for it.
"""

from __future__ import annotations

import contextlib
import re
import selectors
import socket
import time
from collections.abc import Callable
from functools import partial
from typing import Any

from gunicorn import util
from gunicorn.workers.gthread import TConn, ThreadWorker

from varlen_server.turns import Turns

#: Seconds within which a request's head, and the first part of its body, must be there.
PATIENCE = 30.0
LARGEST_HEAD = 64 << 10
#: So much of a body is awaited without a thread: all of it, but for uploads.
GATHERED_BODY = 256 << 10
#: Requests on their way at once; beyond, the oldest is dropped.
MOST_ON_THE_WAY = 2000
#: Seconds until a client that takes nothing of its answer, or sends nothing more of an upload, is given up.
STALLED = 20.0
#: An answer of about this size needs no thread once it is made.
SEND_BUFFER = 512 << 10
#: While others wait for a thread, a client takes at least so many bytes of its answer in so many seconds, or is given up; a download goes on
#: later where it broke off.
LEAST_TAKEN, AT_LEAST_EVERY = 32 << 10, 1.0
#: After its last answer a client has so long to go, and may still send so much that nobody reads.
LEAVING, LEFTOVERS = 2.0, 64 << 10
_LENGTH = re.compile(rb"\r\ncontent-length:[ \t]*(\d{1,18})[ \t]*(?=\r\n)", re.IGNORECASE)
_CHUNKED = re.compile(rb"\r\ntransfer-encoding:", re.IGNORECASE)
_EXPECT = re.compile(rb"\r\nexpect:[^\r\n]*", re.IGNORECASE)
_WHO = re.compile(rb"\r\n(?:authorization:[ \t]*bearer[ \t]+|cookie:[^\r\n]*?varlen-session=)([\w.-]{8,200})", re.IGNORECASE)


class Request:
    """What has come of a request so far."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.head = -1  # where the head ends
        self.wanted = 0  # bytes until it can be handed to a thread
        self.large = False
        self.deadline = time.monotonic() + PATIENCE

    def add(self, data: bytes) -> str:
        """Take what came. Returns the status line of a refusal, "" where there is none."""
        searched = max(0, len(self.data) - 3)
        self.data += data
        if self.head < 0:
            self.head = self.data.find(b"\r\n\r\n", searched)
            if self.head < 0:
                return "431 Request Header Fields Too Large" if len(self.data) > LARGEST_HEAD else ""
            return self._read_head()
        return ""

    def _read_head(self) -> str:
        head = bytes(self.data[: self.head + 2])
        if _CHUNKED.search(head):
            return "411 Length Required"
        found = _LENGTH.search(head)
        length = int(found[1]) if found else 0
        self.large = length > GATHERED_BODY
        self.wanted = self.head + 4 + min(length, GATHERED_BODY)
        return ""

    @property
    def complete(self) -> bool:
        return self.head >= 0 and len(self.data) >= self.wanted

    def awaits_a_word(self) -> bool:
        """Whether the client sends its body only when told to; asked once."""
        head = bytes(self.data[: self.head + 2])
        if not _EXPECT.search(head):
            return False
        without = _EXPECT.sub(b"", head)
        self.wanted -= len(head) - len(without)
        self.data[: self.head + 2] = without
        self.head = len(without) - 2
        return True

    def who(self, address: Any) -> str:
        """Whose it is: by session or token, else by address."""
        found = _WHO.search(bytes(self.data[: self.head + 2]))
        return found[1].decode("latin-1") if found else str(address[0] if isinstance(address, tuple) and address else address)


def _received(client: socket.socket) -> bytes | None:
    """What a client sent; nothing of one that has gone, None where it was a false alarm."""
    try:
        return client.recv(LARGEST_HEAD)
    except (BlockingIOError, InterruptedError):
        return None
    except OSError:
        return b""


class Leaving:
    """A connection whose last answer is sent, until the client has gone."""

    def __init__(self) -> None:
        self.deadline = time.monotonic() + LEAVING
        self.left = LEFTOVERS


class AnswerSocket(socket.socket):
    """A client's socket, which sends an answer as long as the client takes it."""

    def __init__(self, accepted: socket.socket, crowded: Callable[[], bool]) -> None:
        """accepted: handed over; crowded: whether somebody waits for the thread that sends."""
        super().__init__(fileno=accepted.detach())
        self.crowded = crowded

    def sendall(self, data: Any, flags: int = 0, /) -> None:
        """Raises `TimeoutError` where the client stalls, or takes too little while somebody waits."""
        rest = memoryview(data)
        patience = self.gettimeout()
        self.settimeout(AT_LEAST_EVERY / 2)
        try:
            taken, begun = 0, time.monotonic()
            last = begun
            while len(rest):
                with contextlib.suppress(TimeoutError):
                    sent = self.send(rest[:SEND_BUFFER], flags)
                    rest, taken, last = rest[sent:], taken + sent, time.monotonic()
                now = time.monotonic()
                if now - last > STALLED:
                    raise TimeoutError
                if now - begun > AT_LEAST_EVERY:
                    if taken < LEAST_TAKEN and len(rest) and self.crowded():
                        raise TimeoutError
                    taken, begun = 0, now
        finally:
            self.settimeout(patience)


class PatientWorker(ThreadWorker):
    """gunicorn's threaded worker, with requests gathered before a thread is given to them."""

    def __init__(self, *args: Any, **options: Any) -> None:
        self.on_the_way: dict[TConn, Request] = {}
        self.leaving: dict[TConn, Leaving] = {}
        self.closing = False
        super().__init__(*args, **options)
        self.turns: Turns[TConn] = Turns(self.cfg.threads)

    @property
    def nr_conns(self) -> int:
        """Connections that count: while this process ends, also those whose request is still coming, so that it is answered."""
        return self._with_threads + (len(self.on_the_way) if self.closing else 0)

    @nr_conns.setter
    def nr_conns(self, value: int) -> None:
        self._with_threads = value - (len(self.on_the_way) if self.closing else 0)

    def set_accept_enabled(self, enabled: bool) -> None:
        super().set_accept_enabled(enabled)
        if not enabled and not (self.alive and self.is_parent_alive()):
            self.closing = True

    def accept(self, listener: socket.socket) -> None:
        try:
            client, address = listener.accept()
        except (BlockingIOError, ConnectionAbortedError):
            return
        with contextlib.suppress(OSError):
            client.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, SEND_BUFFER)
        # A thread that sends only asks whether somebody waits; who that is, is known to the others' thread alone.
        self._gather(TConn(self.cfg, AnswerSocket(client, lambda: self.turns.waiting), address, listener.getsockname()))

    def on_client_socket_readable(self, conn: TConn, client: socket.socket) -> None:
        """The next request on a connection that was kept."""
        self.poller.unregister(client)
        self.keepalived_conns.remove(conn)
        self.nr_conns -= 1
        self._gather(conn)

    def _gather(self, conn: TConn) -> None:
        if len(self.on_the_way) >= MOST_ON_THE_WAY:
            self._drop(next(iter(self.on_the_way)))
        self.on_the_way[conn] = Request()
        conn.sock.setblocking(False)
        self.poller.register(conn.sock, selectors.EVENT_READ, partial(self._more, conn))

    def _more(self, conn: TConn, client: socket.socket) -> None:
        """Something came."""
        request = self.on_the_way[conn]
        data = _received(client)
        if data is None:
            return
        if not data:
            return self._drop(conn)
        headless = request.head < 0
        if refusal := request.add(data):
            with contextlib.suppress(OSError):
                client.send(f"HTTP/1.1 {refusal}\r\nConnection: close\r\nContent-Length: 0\r\n\r\n".encode())
            return self._drop(conn)
        if headless and request.head >= 0 and request.awaits_a_word():
            with contextlib.suppress(OSError):
                client.send(b"HTTP/1.1 100 Continue\r\n\r\n")
        if request.complete:
            self._hand_on(conn, request)

    def _hand_on(self, conn: TConn, request: Request) -> None:
        del self.on_the_way[conn]
        self.poller.unregister(conn.sock)
        self.nr_conns += 1
        conn.data_ready = True
        conn.large = request.large
        conn.init()
        conn.parser.unreader.unread(bytes(request.data))
        self.turns.add(request.who(conn.client), conn)
        self._begin()

    def _begin(self) -> None:
        """Give free threads to those whose turn it is."""
        while (found := self.turns.next()) is not None:
            who, conn = found
            future = self.tpool.submit(self.handle, conn)
            future.add_done_callback(lambda future, who=who, conn=conn: self.method_queue.defer(self._done, who, conn, future))

    def _done(self, who: str, conn: TConn, future: Any) -> None:
        self.turns.done(who)
        self.finish_request(conn, future)
        self._begin()

    def finish_request(self, conn: TConn, fs: Any) -> None:
        # The client of a last answer is not waited for in this thread, which everybody else needs.
        last = fs.cancelled() or (fs.exception() is None and not fs.result())
        if not last:
            super().finish_request(conn, fs)
            return
        self.nr_conns -= 1
        try:
            conn.sock.shutdown(socket.SHUT_WR)
            conn.sock.setblocking(False)
            self.poller.register(conn.sock, selectors.EVENT_READ, partial(self._leave, conn))
        except (OSError, ValueError):
            util.close(conn.sock)
        else:
            self.leaving[conn] = Leaving()

    def _leave(self, conn: TConn, client: socket.socket) -> None:
        """What a client still sends is thrown away, until it goes: were it left unread, the end of the answer could be lost."""
        data = _received(client)
        if data is None:
            return
        self.leaving[conn].left -= len(data)
        if not data or self.leaving[conn].left < 0:
            self._drop(conn)

    def _drop(self, conn: TConn) -> None:
        self.leaving.pop(conn, None)
        self.on_the_way.pop(conn, None)
        with contextlib.suppress(OSError, KeyError, ValueError):
            self.poller.unregister(conn.sock)
        util.close(conn.sock)

    def murder_pending(self) -> None:
        """Give up requests that don't come to an end; called once a second."""
        super().murder_pending()
        now = time.monotonic()
        for conn in [conn for conn, request in self.on_the_way.items() if request.deadline < now or (self.closing and not request.data)]:
            self._drop(conn)
        for conn in [conn for conn, leaving in self.leaving.items() if leaving.deadline < now]:
            self._drop(conn)

    def handle_request(self, req: Any, conn: TConn) -> Any:
        # In the thread: who stalls now is given up.
        conn.sock.settimeout(STALLED)
        try:
            return super().handle_request(req, conn)
        except TimeoutError:
            util.close(conn.sock)
            return False

    def _keepalive_after(self, conn: TConn, keepalive: bool) -> bool:
        # What is left of a large body is not waited for, and no request comes before the one before is answered.
        if conn.large or conn.parser.unreader.buf.getvalue():
            return False
        return bool(super()._keepalive_after(conn, keepalive))
