"""Where this server listens, and under which names it may be asked."""

from __future__ import annotations

import contextlib
import ipaddress
import socket

WILDCARDS = ("0.0.0.0", "::", "")


def parse_address(text: str) -> tuple[str, int]:
    """HOST:PORT, the host of version 6 in brackets. Raises `ValueError` with what is expected."""
    host, colon, port = text.rpartition(":")
    if not colon or not port.isdigit() or not 0 < int(port) < 65536:
        raise ValueError(f"expected HOST:PORT, as 0.0.0.0:8417, not {text!r}")
    return host.strip("[]"), int(port)


def is_loopback(host: str) -> bool:
    """Whether only this machine reaches the address. A name is looked up: every address of it must be loopback."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        pass
    try:
        found = {info[4][0] for info in socket.getaddrinfo(host, None)}
    except OSError:
        return False
    return bool(found) and all(ipaddress.ip_address(str(each)).is_loopback for each in found)


def names_of(host: str) -> list[str]:
    """Names under which a server at `host` is meant: for all addresses at once, this machine's own name and addresses."""
    if host not in WILDCARDS:
        return [f"[{host}]" if ":" in host else host]
    found = {socket.gethostname(), socket.getfqdn()}
    with contextlib.suppress(OSError):
        found |= {str(info[4][0]) for info in socket.getaddrinfo(socket.gethostname(), None)}
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
            probe.connect(("192.0.2.1", 9))  # nothing is sent: it only says which address would be ours
            found.add(probe.getsockname()[0])
    except OSError:
        pass
    return sorted(f"[{each}]" if ":" in each else each for each in found if each and "%" not in each)
