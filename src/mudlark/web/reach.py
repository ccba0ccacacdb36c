"""Where a session may go, when somebody else says where: to public addresses, and to hosts that were named beforehand.

Every hop is judged, redirects included: the host as it is written before a connection is taken, and the addresses that
its name leads to when they are looked up, so that a name which leads elsewhere a moment later gains nothing. Public is
what the registries of special-purpose addresses (RFC 6890) let be reached from anywhere.
"""

import ipaddress
import socket
from collections.abc import Callable, Iterable

import msgspec

from mudlark.errors import Refused
from mudlark.text import printable

_NAT64 = ipaddress.ip_network("64:ff9b::/96")  # RFC 6052: the last 32 bits are an IPv4 address


class Reach(msgspec.Struct, frozen=True):
    """private: hosts that may be asked although they are in no public network. on_host: told of each host once, before
    it is asked."""

    private: frozenset[str] = frozenset()
    on_host: Callable[[str], None] = lambda _host: None
    _named: set[str] = msgspec.field(default_factory=set)

    def enter(self, host: str) -> None:
        """Raises Refused for a host that is written as an address which may not be asked; else has it named."""
        host = host.lower().strip("[]").rstrip(".")
        if host not in self.private and (written_private(host) or host == "localhost" or host.endswith(".localhost")):
            raise refused(host)
        if host not in self._named:
            self._named.add(host)
            self.on_host(host)

    def admit(self, host: str, addresses: Iterable[str]) -> None:
        """Raises Refused if a name leads to an address that may not be asked."""
        if host.lower().rstrip(".") not in self.private and not all(map(is_public, addresses)):
            raise refused(host)


def refused(host: str) -> Refused:
    """That a host is not asked."""
    return Refused(
        f"The record leads to {printable(host)}, which is on this machine or in a private network: not asked.",
        "If the item came from there and you trust its record, add --trust-record.",
    )


def is_public(address: str) -> bool:
    """True for an IP address that can be reached from anywhere; addresses inside of addresses count."""
    try:
        parsed = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    if isinstance(parsed, ipaddress.IPv6Address):
        inner = parsed.ipv4_mapped or parsed.sixtofour
        if inner is None and parsed in _NAT64:
            inner = ipaddress.IPv4Address(int(parsed) & 0xFFFFFFFF)
        if inner is not None:
            return is_public(str(inner))
    return parsed.is_global and not parsed.is_multicast


def written_private(host: str) -> bool:
    """True for a host that is written as an IP address, in any of the ways that systems read, and is not public."""
    try:
        return not is_public(str(ipaddress.ip_address(host)))
    except ValueError:
        pass
    try:
        return not is_public(socket.inet_ntoa(socket.inet_aton(host)))  # 127.1, 0x7f000001, 2130706433
    except (OSError, UnicodeEncodeError):
        return False
