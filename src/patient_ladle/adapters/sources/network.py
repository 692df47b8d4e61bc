"""The way to a server before any driver speaks: does its name resolve, may it be used, does anything listen at its port?"""

from __future__ import annotations

import socket

from patient_ladle.adapters.reach import NotKnown, NotReachable, Reached, connect, reached
from patient_ladle.core.errors import BadInput, SourceUnreachable


def way_in(host: str, port: int, seconds: float) -> Reached:
    """The judged addresses of a host. Raises SourceUnreachable, and BadInput for one that no source may have."""
    try:
        return reached(host, port, seconds)
    except NotReachable as error:
        at = f" at {error.address}" if error.address != host else ""
        raise BadInput(
            f"the host '{host}' is{at} an address that no source may have: it {error.why}.",
            "Give the address of the database that holds the data.",
        ) from None
    except NotKnown as error:
        if error.in_time:
            raise SourceUnreachable(f"the host '{host}' is not known.", "Correct the host of the source.") from None
        raise SourceUnreachable(
            f"the name service gave no answer about '{host}' within {seconds:g} s.",
            "Ask whoever runs the network, or give an IP address.",
        ) from None


def knock(host: str, port: int, seconds: float) -> None:
    """Something listens there, or SourceUnreachable says what happened instead."""
    opened(way_in(host, port, seconds), port, seconds).close()


def opened(way: Reached, port: int, seconds: float) -> socket.socket:
    """A connection to a judged address. Raises SourceUnreachable."""
    host = way.host
    try:
        return connect(way, port, seconds)
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
