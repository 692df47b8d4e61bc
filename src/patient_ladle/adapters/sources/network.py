"""The way to a server before any driver speaks: does its name resolve, does anything listen at its port?"""

from __future__ import annotations

import ipaddress
import socket
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as TookTooLong

from patient_ladle.core.errors import BadInput, SourceUnreachable


def refuse_link_local(host: str, addresses: list[str]) -> None:
    """Link-local addresses reach things that only this machine should (cloud metadata, say). Raises BadInput."""
    for address in addresses:
        if ipaddress.ip_address(address.partition("%")[0]).is_link_local:
            raise BadInput(
                f"the host '{host}' is at the link-local address {address}, which no source may have.",
                "Give the database's address in your network.",
            )


def resolve(host: str, seconds: float) -> list[str]:
    """The addresses of a host name. Raises SourceUnreachable, and BadInput for a link-local one."""
    pool = ThreadPoolExecutor(1)
    try:
        found = pool.submit(socket.getaddrinfo, host, None, type=socket.SOCK_STREAM).result(seconds)
    except TookTooLong:
        raise SourceUnreachable(
            f"the name service gave no answer about '{host}' within {seconds:g} s.",
            "Ask whoever runs the network, or give an IP address.",
        ) from None
    except (socket.gaierror, UnicodeError):
        raise SourceUnreachable(f"the host '{host}' is not known.", "Correct the host of the source.") from None
    finally:
        pool.shutdown(wait=False)
    addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
    refuse_link_local(host, addresses)
    return addresses


def knock(host: str, port: int, seconds: float) -> None:
    """Something listens there, or SourceUnreachable says what happened instead."""
    try:
        socket.create_connection((host, port), seconds).close()
    except ConnectionRefusedError:
        raise nothing_listens(host, port) from None
    except TimeoutError:
        raise no_answer(host, port, seconds) from None
    except OSError as error:
        raise SourceUnreachable(
            f"no way to {host}:{port}: {error.strerror or error}.", "Check host, port and network."
        ) from None


def nothing_listens(host: str, port: int) -> SourceUnreachable:
    """The error for a refused connection."""
    return SourceUnreachable(
        f"nothing listens at {host}:{port}.", "Start the database, or correct host and port of the source."
    )


def no_answer(host: str, port: int, seconds: float) -> SourceUnreachable:
    """The error for silence, be it of the network or of a server that accepts and then says nothing."""
    return SourceUnreachable(
        f"{host}:{port} did not answer within {seconds:g} s.",
        "Check host, port and firewall, and that the server is well.",
        timeout=True,
    )
