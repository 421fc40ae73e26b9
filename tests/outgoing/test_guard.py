"""What pages may reach: public addresses, and what the operator listed."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.outgoing.guard import Forbidden, Guard

PRIVATE = (
    "127.0.0.1",
    "127.8.9.1",
    "0.0.0.0",
    "10.1.2.3",
    "172.16.0.1",
    "192.168.1.1",
    "169.254.169.254",
    "100.64.0.1",
    "224.0.0.1",
    "255.255.255.255",
    "198.18.0.1",
    "::1",
    "::",
    "fe80::1",
    "fc00::1",
    "ff02::1",
    "::ffff:127.0.0.1",
    "::ffff:10.0.0.1",
    "64:ff9b::7f00:1",
    "2002:7f00:1::",
    "2001:db8::1",
)
PUBLIC = ("93.184.215.14", "1.1.1.1", "2606:2800:21f:cb07:6820:80da:af6b:8b2c", "::ffff:1.1.1.1")


@pytest.mark.parametrize("address", PRIVATE)
def test_what_is_not_public_is_not_reached(address: str) -> None:
    with pytest.raises(Forbidden, match="not listed as allowed"):
        Guard().fit("ledge.example", 80, [address])


@pytest.mark.parametrize("address", PUBLIC)
def test_what_is_public_is_reached(address: str) -> None:
    assert Guard().fit("ledge.example", 443, [address]) == [address]


def test_of_several_addresses_only_the_public_ones_are_reached() -> None:
    assert Guard().fit("ledge.example", 80, ["127.0.0.1", "1.1.1.1", "10.0.0.1"]) == ["1.1.1.1"]


@pytest.mark.parametrize(
    ("listed", "host", "port", "address", "allowed"),
    [
        ("127.0.0.1:8030", "127.0.0.1", 8030, "127.0.0.1", True),
        ("127.0.0.1:8030", "127.0.0.1", 8031, "127.0.0.1", False),
        ("127.0.0.1:8030", "localhost", 8030, "127.0.0.1", True),
        ("127.0.0.1", "127.0.0.1", 5432, "127.0.0.1", True),
        ("10.0.0.0/8", "anything.example", 80, "10.9.8.7", True),
        ("10.0.0.0/8", "anything.example", 80, "11.9.8.7", True),
        ("10.0.0.0/8", "anything.example", 80, "192.168.0.1", False),
        ("10.0.0.0/8:8080", "anything.example", 80, "10.0.0.1", False),
        ("intern.example", "intern.example", 80, "10.0.0.1", True),
        ("intern.example", "INTERN.example.", 80, "10.0.0.1", True),
        ("intern.example:81", "intern.example", 80, "10.0.0.1", False),
        ("intern.example", "more.intern.example", 80, "10.0.0.1", False),
        ("[::1]:8030", "::1", 8030, "::1", True),
        ("[::1]:8030", "::1", 8031, "::1", False),
        ("fd00::/8", "x.example", 80, "fd12::1", True),
    ],
)
def test_what_is_listed_is_reached_and_nothing_more(
    listed: str, host: str, port: int, address: str, allowed: bool
) -> None:
    guard = Guard([listed])
    if allowed:
        assert guard.fit(host, port, [address]) == [address]
    else:
        with pytest.raises(Forbidden):
            guard.fit(host, port, [address])


@pytest.mark.parametrize("entry", ["", "  ", ":80", "host:0", "host:99999", "host:x", "no/such/net", "a b"])
def test_an_entry_that_makes_no_sense_is_refused(entry: str) -> None:
    with pytest.raises(ValueError, match=r"host|port|network"):
        Guard([entry])


@given(st.ip_addresses())
def test_an_address_counts_as_what_it_leads_to(
    address: ipaddress.IPv4Address | ipaddress.IPv6Address,
) -> None:
    """Whatever is reached without being listed is global, and so is what lies within it."""
    try:
        Guard().fit("x.example", 80, [str(address)])
    except Forbidden:
        return
    assert address.is_global
    mapped = getattr(address, "ipv4_mapped", None) or getattr(address, "sixtofour", None)
    assert mapped is None or mapped.is_global


@given(st.ip_addresses(v=4))
def test_an_address_dressed_as_ipv6_is_judged_as_itself(address: ipaddress.IPv4Address) -> None:
    def reached(text: str) -> bool:
        try:
            return bool(Guard().fit("x.example", 80, [text]))
        except Forbidden:
            return False

    assert reached(f"::ffff:{address}") == reached(str(address))


@pytest.mark.parametrize(
    "address",
    [
        "192.0.0.8",
        "192.0.0.170",
        "fec0::1",
        "168.63.129.16",
        "100.100.100.200",
        "198.18.0.1",
        "192.88.99.1",
        "169.254.169.254",
        "fd00:ec2::254",
        "2001:db8::1",
        "3fff::1",
        "5f00::1",
        "100::1",
        "64:ff9b:1::1",
        "64:ff9b::a00:1",
        "2002:a00:1::",
        "::ffff:10.0.0.1",
        "0.0.0.0",
        "255.255.255.255",
        "240.0.0.1",
        "ff02::1",
    ],
)
def test_every_special_purpose_address_is_refused(address: str) -> None:
    with pytest.raises(Forbidden):
        Guard().fit("somewhere.example", 80, [address])


@pytest.mark.parametrize("address", ["93.184.215.14", "2606:2800:21f:cb07::1", "1.1.1.1", "2a00:1450::1"])
def test_public_addresses_are_fit(address: str) -> None:
    assert Guard().fit("somewhere.example", 443, [address]) == [address]
