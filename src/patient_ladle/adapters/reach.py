"""Every way out to an address that somebody typed: looked up once, judged as what it leads to, and connected to as judged.

Rules and theory
----------------
* An IPv6 address that carries an IPv4 one (mapped, compatible, NAT64, 6to4, Teredo) leads where that one does, and is
  judged as that one.
* Refused for everybody: link-local addresses (metadata of clouds), multicast, unspecified (which reaches this machine),
  site-local and reserved ones, and the service's own database.
* A name is looked up once: whoever is asked for it again a moment later is not asked again.
"""

from __future__ import annotations

import ipaddress
import os
import socket
from concurrent.futures import TimeoutError as TookTooLong
from dataclasses import dataclass

from patient_ladle import variables
from patient_ladle.core.aside import aside

Ip = ipaddress.IPv4Address | ipaddress.IPv6Address

_NAT64 = (ipaddress.ip_network("64:ff9b::/96"), ipaddress.ip_network("64:ff9b:1::/48"))
_COMPATIBLE = ipaddress.ip_network("::/96")
_SITE_LOCAL = ipaddress.ip_network("fec0::/10")
_METADATA = (ipaddress.ip_address("fd00:ec2::254"), ipaddress.ip_address("100.100.100.200"))
"""Addresses of cloud metadata that are not link-local."""


class NotKnown(Exception):
    """The name service has no address for a host, or gave no answer in time."""

    def __init__(self, host: str, in_time: bool) -> None:
        super().__init__(host)
        self.in_time = in_time


class NotReachable(Exception):
    """An address that nothing may lead to; ``why`` ends a sentence about it."""

    def __init__(self, address: str, why: str) -> None:
        super().__init__(f"{address} {why}")
        self.address, self.why = address, why


@dataclass(frozen=True, slots=True)
class Reached:
    """A host with the addresses that were judged, in the order of the name service."""

    host: str
    addresses: tuple[str, ...]


def led_to(address: Ip) -> Ip:
    """What an address leads to: itself, or the IPv4 address that it carries."""
    if isinstance(address, ipaddress.IPv4Address):
        return address
    if address.ipv4_mapped:
        return address.ipv4_mapped
    if address.sixtofour:
        return address.sixtofour
    if address.teredo:
        return address.teredo[1]
    if any(address in network for network in _NAT64) or (address in _COMPATIBLE and int(address) > 1):
        return ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return address


def judge(text: str, private: bool = True) -> Ip:
    """The address it leads to. Raises NotReachable. ``private``: addresses inside the house are allowed."""
    address = ipaddress.ip_address(text.partition("%")[0])
    found = led_to(address)
    if found.is_link_local or address.is_link_local or found in _METADATA:
        raise NotReachable(text, "is link-local: it reaches what only this machine should")
    if found.is_multicast or found.is_unspecified:
        raise NotReachable(text, "is not an address of one server")
    if address in _SITE_LOCAL or (isinstance(found, ipaddress.IPv4Address) and found.is_reserved):
        raise NotReachable(text, "is reserved")
    if not private and not (found.is_global and address.is_global):
        raise NotReachable(text, "is inside this network")
    return found


def reached(host: str, port: int, seconds: float, private: bool = True) -> Reached:
    """Look the host up and judge all that it is at. Raises NotKnown, NotReachable."""
    found = looked_up(host, seconds)
    for each in found:
        if _is_own_database(judge(each, private), port):
            raise NotReachable(each, "is the service's own database server")
    return Reached(host, found)


def looked_up(host: str, seconds: float) -> tuple[str, ...]:
    """The addresses of a host name. Raises NotKnown."""
    try:
        found = aside(lambda: socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)).result(seconds)
    except TookTooLong:
        raise NotKnown(host, False) from None
    except (OSError, UnicodeError, ValueError):
        raise NotKnown(host, True) from None
    return tuple(dict.fromkeys(str(entry[4][0]) for entry in found))


def connect(way: Reached, port: int, seconds: float) -> socket.socket:
    """To the first of its addresses that answers. Raises OSError."""
    last: OSError = ConnectionRefusedError(f"no address of {way.host}")
    for address in way.addresses:
        try:
            return socket.create_connection((address, port), seconds)
        except OSError as error:
            last = error
    raise last


def _is_own_database(address: Ip, port: int) -> bool:
    """Whether that is the server where the service keeps its own records, by any of this machine's addresses."""
    for host in [host for host, own_port in _own_databases() if own_port == port]:
        try:
            homes = [led_to(ipaddress.ip_address(each.partition("%")[0])) for each in looked_up(host, 2)]
        except NotKnown:
            continue
        if address in homes or (_is_here(address) and any(map(_is_here, homes))):
            return True
    return False


def _own_databases() -> list[tuple[str, int]]:
    """Hosts and ports at which the service's own database may be: its address may name several."""
    given = os.environ.get("LADLE_DATABASE_URL", "")
    if not given:
        return []
    parts = variables.database_parts(given)
    hosts = str(parts.get("hostaddr") or parts.get("host") or "/").split(",")
    ports = [int(each) for each in str(parts.get("port") or "5432").split(",")]
    # A server at a socket of this machine may listen at its addresses, too.
    named = ["127.0.0.1" if host.startswith("/") else host for host in hosts]
    return list(zip(named, ports * len(hosts) if len(ports) == 1 else ports, strict=False))


def _is_here(address: Ip) -> bool:
    """Whether it is one of this machine's: only of those a socket can be."""
    if address.is_loopback:
        return True
    family = socket.AF_INET if isinstance(address, ipaddress.IPv4Address) else socket.AF_INET6
    with socket.socket(family, socket.SOCK_DGRAM) as probe:
        try:
            probe.bind((str(address), 0))
        except OSError:
            return False
    return True
