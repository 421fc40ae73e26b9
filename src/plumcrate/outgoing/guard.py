"""Which addresses on the network a page may reach: public ones, and those that the operator listed.

The question is asked once a connection is to be made, with the very addresses to which it would be made, so
that a name which changes its answer gains nothing (RFC 6890 for what is not public).
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
#: IPv6 addresses that a gateway turns into IPv4 (RFC 6052).
_TRANSLATED = ipaddress.ip_network("64:ff9b::/96")
#: IANA's registries of special-purpose addresses (RFC 6890), by name, beside what ``is_global`` says: which
#: of them it knows depends on the version of Python. The last is where a cloud answers its own machines.
_SPECIAL = tuple(
    ipaddress.ip_network(text)
    for text in (
        "0.0.0.0/8",
        "10.0.0.0/8",
        "100.64.0.0/10",
        "127.0.0.0/8",
        "169.254.0.0/16",
        "172.16.0.0/12",
        "192.0.0.0/24",
        "192.0.2.0/24",
        "192.31.196.0/24",
        "192.52.193.0/24",
        "192.88.99.0/24",
        "192.168.0.0/16",
        "192.175.48.0/24",
        "198.18.0.0/15",
        "198.51.100.0/24",
        "203.0.113.0/24",
        "224.0.0.0/4",
        "240.0.0.0/4",
        "::/128",
        "::1/128",
        "64:ff9b:1::/48",
        "100::/64",
        "100:0:0:1::/64",
        "2001::/23",
        "2001:db8::/32",
        "2620:4f:8000::/48",
        "3fff::/20",
        "5f00::/16",
        "fc00::/7",
        "fe80::/10",
        "fec0::/10",
        "ff00::/8",
        "168.63.129.16/32",
    )
)


class Forbidden(Exception):
    """The address may not be reached; the text says why."""


@dataclass(frozen=True, slots=True)
class AllowedPlace:
    """What an operator lists: a name or a network, and a port or every port."""

    name: str | None
    network: Network | None
    port: int | None

    @classmethod
    def of(cls, text: str) -> AllowedPlace:
        """``HOST``, ``HOST:PORT``, ``NETWORK`` or ``NETWORK:PORT``; IPv6 with a port in brackets. Raises
        ValueError."""
        host, port = _parted(text.strip())
        if not host:
            raise ValueError(f"“{text}” names no host")
        try:
            return cls(None, ipaddress.ip_network(host, strict=False), port)
        except ValueError:
            if "/" in host or " " in host:
                raise ValueError(f"“{text}” is neither a host nor a network") from None
            return cls(host.lower().rstrip("."), None, port)


def _parted(text: str) -> tuple[str, int | None]:
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        return host, _port(rest[1:]) if rest.startswith(":") else None
    if text.count(":") == 1:
        host, _, port = text.partition(":")
        return host, _port(port)
    return text, None


def _port(text: str) -> int:
    if not (text.isascii() and text.isdigit() and 0 < int(text) < 65536):
        raise ValueError(f"“{text}” is no port")
    return int(text)


class Guard:
    """Knows what is listed as allowed. Raises ValueError for entries that make no sense."""

    def __init__(self, listed: Iterable[str] = ()) -> None:
        self._entries = [AllowedPlace.of(text) for text in listed]

    def fit(self, host: str, port: int, addresses: Sequence[str]) -> list[str]:
        """Those of a host's addresses to which a connection may be made. Raises :class:`Forbidden`."""
        name = host.lower().rstrip(".")
        if any(entry.name == name and entry.port in (None, port) for entry in self._entries):
            return list(addresses)
        fit = [address for address in addresses if self._may(ipaddress.ip_address(address), port)]
        if not fit:
            raise Forbidden(
                f"{host}:{port} is {_kind(ipaddress.ip_address(addresses[0]))}, and is not listed as allowed"
            )
        return fit

    def _may(self, address: Address, port: int) -> bool:
        if any(
            entry.network is not None
            and entry.port in (None, port)
            and address.version == entry.network.version
            and address in entry.network
            for entry in self._entries
        ):
            return True
        return _is_public(address)


def _within(address: Address) -> Address | None:
    """The IPv4 address that an IPv6 address leads to."""
    if isinstance(address, ipaddress.IPv4Address):
        return None
    if address in _TRANSLATED:
        return ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    if address.teredo is not None:
        return address.teredo[1]
    return address.ipv4_mapped or address.sixtofour


def _is_public(address: Address) -> bool:
    within = _within(address)
    if within is not None:
        return _is_public(within)
    if any(address.version == network.version and address in network for network in _SPECIAL):
        return False
    return address.is_global and not address.is_multicast and not address.is_reserved


def _kind(address: Address) -> str:
    address = _within(address) or address
    if address.is_loopback or address.is_unspecified:
        return "an address of this machine itself"
    return "a link-local address" if address.is_link_local else "not a public address"
