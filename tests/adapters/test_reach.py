"""Every way out is judged as what it leads to, in every spelling of an address."""

from __future__ import annotations

import ipaddress
import socket

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters import reach
from patient_ladle.adapters.reach import NotKnown, NotReachable, Reached, connect, judge, led_to, reached

SPELLINGS = {
    "mapped": lambda n: (0xFFFF << 32) | n,
    "compatible": lambda n: n,
    "nat64": lambda n: (0x64FF9B << 96) | n,
    "6to4": lambda n: (0x2002 << 112) | (n << 80) | 1,
    "teredo": lambda n: (0x20010000 << 96) | (n ^ 0xFFFFFFFF),
}
NETWORKS = {
    "169.254.0.0/16": "link-local",
    "224.0.0.0/4": "not an address of one server",
    "240.0.0.0/4": "reserved",
    "0.0.0.0/32": "not an address of one server",
}


@given(
    st.sampled_from(sorted(NETWORKS)).flatmap(lambda n: st.tuples(st.just(n), st.ip_addresses(network=n))),
    st.sampled_from(sorted(SPELLINGS)),
)
def test_what_is_refused_plain_is_refused_in_every_spelling(drawn, spelling):
    network, plain = drawn
    for text in (str(plain), str(ipaddress.IPv6Address(SPELLINGS[spelling](int(plain))))):
        with pytest.raises(NotReachable) as refused:
            judge(text)
        assert NETWORKS[network] in refused.value.why or int(plain) in (0xFFFFFFFF, 0)


@given(st.ip_addresses(v=4), st.sampled_from(sorted(SPELLINGS)))
def test_a_spelling_leads_where_the_plain_address_does(plain, spelling):
    if int(plain) > 1:
        assert led_to(ipaddress.IPv6Address(SPELLINGS[spelling](int(plain)))) == plain


@given(st.ip_addresses(v=4).filter(lambda each: not each.is_global), st.sampled_from(sorted(SPELLINGS)))
def test_outside_the_house_nothing_of_the_house_is_reached(plain, spelling):
    for text in (str(plain), str(ipaddress.IPv6Address(SPELLINGS[spelling](int(plain))))):
        with pytest.raises(NotReachable):
            judge(text, private=False)


@pytest.mark.parametrize("text", ["fe80::1", "fe80::1%lo", "ff02::1", "fec0::1", "::", "fd00:ec2::254", "100.100.100.200"])
def test_addresses_of_no_server_are_refused(text):
    with pytest.raises(NotReachable):
        judge(text)


@pytest.mark.parametrize("text", ["127.0.0.1", "::1", "10.1.2.3", "fd00::1", "192.0.2.1", "8.8.8.8", "2606:4700::1"])
def test_addresses_of_servers_are_not(text):
    assert str(judge(text)) == text


def test_the_connection_goes_to_what_was_judged(monkeypatch):
    with socket.create_server(("127.0.0.1", 0)) as server:
        way = reached("localhost", server.getsockname()[1], 5)
        monkeypatch.setattr(reach, "looked_up", lambda *_: pytest.fail("it was looked up once more"))
        connect(Reached("no-such-host.invalid", ("127.0.0.1",)), server.getsockname()[1], 5).close()
    assert way.host == "localhost"


def test_a_host_is_judged_by_all_that_it_is_at(monkeypatch):
    monkeypatch.setattr(reach, "looked_up", lambda host, seconds: ("10.1.2.3", "169.254.169.254"))
    with pytest.raises(NotReachable, match="link-local"):
        reached("db.fennmoor.example", 5432, 1)
    monkeypatch.undo()
    with pytest.raises(NotKnown):
        reached("no-such-host.invalid", 5432, 5)


@pytest.mark.parametrize("host", ["127.0.0.1", "localhost", "::1", "::ffff:127.0.0.1", "127.9.9.9"])
def test_the_services_own_database_is_reached_by_no_spelling(monkeypatch, host):
    monkeypatch.setenv("LADLE_DATABASE_URL", "postgresql://ladle:x@127.0.0.1:5999/ladle")
    with pytest.raises(NotReachable, match="own database server"):
        reached(host, 5999, 5)
    assert reached(host, 5998, 5).addresses
