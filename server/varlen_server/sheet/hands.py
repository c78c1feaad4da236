"""Web processes lend each other a hand with tiles.

A browser's connection belongs to one process, so a sheet asked for in one request would keep one
core busy. Each process therefore also listens on a socket of its own; whoever makes a sheet
gives orders to its siblings, one at a time. One that is busy simply takes fewer, and one that
goes away gives its order back.
"""

from __future__ import annotations

import hashlib
import logging
import os
import threading
from collections import deque
from multiprocessing import AuthenticationError
from multiprocessing.connection import Client, Connection, Listener
from typing import TYPE_CHECKING

import orjson
from django.conf import settings
from django.db import close_old_connections

if TYPE_CHECKING:
    from varlen_server.sheet.looks import Batch, Order

_log = logging.getLogger(__name__)
#: Which of the server's processes this is, of how many; alone until it is told.
_place: tuple[int, int] = (0, 1)
_idle: dict[int, list[Connection]] = {}
_lock = threading.Lock()
#: Orders a sibling has at hand, so that it need not wait for the next.
AHEAD = 2
#: First bytes of an answer.
QUICK, EXACT, FAILED = b"q", b"e", b"f"


def _address(slot: int) -> str:
    """An address of this server's processes alone, in the abstract name space: nothing is left on the disk."""
    return f"\0varlen-{os.getppid()}-{slot}"


def _key() -> bytes:
    return hashlib.sha256(b"hands" + settings.SECRET_KEY.encode()).digest()


def offer(processes: int) -> None:
    """Begin to take orders from siblings; called once in each web process."""
    global _place
    for slot in range(processes):
        try:
            listener = Listener(_address(slot), "AF_UNIX", backlog=32, authkey=_key())
        except OSError:  # another's
            continue
        _place = (slot, processes)
        threading.Thread(target=_listen, args=[listener], daemon=True, name="hands").start()
        return
    _log.warning("no place among %d web processes: tiles are made by one process at a time", processes)


def _listen(listener: Listener) -> None:
    while True:
        try:
            connection = listener.accept()
        except (OSError, EOFError, AuthenticationError):
            continue
        threading.Thread(target=_serve, args=[connection], daemon=True, name="hand").start()


def _serve(connection: Connection) -> None:
    """Carry out a sibling's orders until it hangs up."""
    from varlen_server.sheet.looks import Order, made

    while True:
        try:
            asked = connection.recv_bytes()
        except (OSError, EOFError):
            return
        close_old_connections()
        try:
            found, exact = made(Order(**orjson.loads(asked)))
            answer = (EXACT if exact else QUICK) + found
        except Exception:
            # Whoever asked does it itself, and says what is wrong.
            _log.exception("an order of another process")
            answer = FAILED
        finally:
            close_old_connections()
        try:
            connection.send_bytes(answer)
        except OSError:
            return


def help_with(batch: Batch) -> None:
    """Let every sibling take orders of a batch."""
    own, processes = _place
    for slot in range(processes):
        if slot != own:
            threading.Thread(target=_hand_over, args=[batch, slot], daemon=True).start()


def _hand_over(batch: Batch, slot: int) -> None:
    connection = _connected(slot)
    if connection is None:
        return
    under_way: deque[Order] = deque()
    try:
        while True:
            while len(under_way) < AHEAD and (order := batch.next()) is not None:
                under_way.append(order)
                connection.send_bytes(order.to_bytes())
            if not under_way:
                break
            answer = connection.recv_bytes()
            order = under_way.popleft()
            if answer[:1] == FAILED:
                batch.refuse(order)
            else:
                batch.done(order, answer[1:], answer[:1] == EXACT)
    except (OSError, EOFError):
        while under_way:
            batch.give_back(under_way.pop())
        return
    with _lock:
        _idle.setdefault(slot, []).append(connection)


def _connected(slot: int) -> Connection | None:
    with _lock:
        idle = _idle.get(slot)
        if idle:
            return idle.pop()
    try:
        return Client(_address(slot), "AF_UNIX", authkey=_key())
    except (OSError, EOFError, AuthenticationError):
        return None
