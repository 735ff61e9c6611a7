import itertools
from ipaddress import IPv4Address, IPv4Network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import (
    AddressError,
    AddressRange,
    Mac,
    check_host,
    hosts,
    joined,
    parse_address,
    parse_interface,
    parse_mac,
    parse_mask,
    parse_range,
    parse_subnet,
)

own_macs = st.binary(min_size=6, max_size=6).filter(lambda o: not o[0] & 1 and any(o)).map(Mac)
addresses = st.integers(0, 2**32 - 1).map(IPv4Address)


@pytest.mark.parametrize(
    "text",
    [
        "02-77-B1-4C-09-21",
        "02:77:b1:4c:09:21",
        "0277.b14c.0921",
        "0277b14c0921",
        "02 77 B1 4C 09 21",
        "0277B1-4C0921",
        "2:77:b1:4c:9:21",
        "  02-77-b1-4c-09-21\t",
    ],
)
def test_every_usual_notation_is_the_same_mac(text):
    assert parse_mac(text) == Mac(bytes.fromhex("0277b14c0921"))


@given(own_macs)
def test_a_mac_reads_back_as_it_is_shown(mac):
    assert parse_mac(str(mac)) == mac
    assert parse_mac(mac.octets.hex(":")) == mac
    assert parse_mac(mac.octets.hex()) == mac


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("02-77-B1-4C-09", "has 10 hex digits; a MAC has 12"),
        ("02-77-B1-4C-09-211", "has 13 hex digits"),
        ("02-77-B1-4C-09-2G", "'G' is not a hex digit"),
        ("", "has 0 hex digits"),
        ("FF-FF-FF-FF-FF-FF", "group address"),
        ("01-00-5E-00-00-01", "group address"),
        ("00-00-00-00-00-00", "all zeros"),
        ("O2-77-B1-4C-09-21", "'O' is not a hex digit"),
    ],
)
def test_a_wrong_mac_is_told_why(text, complaint):
    with pytest.raises(AddressError, match=complaint):
        parse_mac(text)


@given(addresses)
def test_an_address_reads_back_as_it_is_shown(address):
    assert parse_address(str(address)) == address


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("10.61.20.300", "octet 4 is 300; an octet is 0 to 255"),
        ("256.1.1.1", "octet 1 is 256"),
        ("10.61.20", "has 3 octets; an IPv4 address has 4"),
        ("10.61.20.1.2", "has 5 octets"),
        ("10.61..1", "octet 3 is ''"),
        ("10.61.2o.1", "octet 3 is '2o'"),
        ("10.61.020.1", "octet 3 is written 020.*write 20"),
        ("-1.0.0.1", "octet 1 is '-1'"),
        ("", "empty: has 0 octets"),
        ("10.61.20.٣", "octet 4"),
        ("99999999999999999999.1.1.1", "an octet is 0 to 255"),
    ],
)
def test_a_wrong_address_names_the_octet_and_its_limit(text, complaint):
    with pytest.raises(AddressError, match=complaint):
        parse_address(text)


@given(st.integers(1, 31))
def test_a_mask_reads_in_three_notations(prefix):
    dotted = str(IPv4Network((0, prefix)).netmask)
    assert parse_mask(dotted) == parse_mask(f"/{prefix}") == parse_mask(str(prefix)) == prefix


@given(addresses)
def test_a_mask_is_ones_then_zeros_or_is_refused(address):
    contiguous = {int(IPv4Network((0, n)).netmask): n for n in range(1, 32)}
    if int(address) in contiguous:
        assert parse_mask(str(address)) == contiguous[int(address)]
    else:
        with pytest.raises(AddressError):
            parse_mask(str(address))


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("255.255.0.255", "not contiguous"),
        ("255.0.255.0", "octet 3 has a one after a zero"),
        ("0.0.0.0", "leaves no subnet"),
        ("255.255.255.255", "leaves no subnet"),
        ("33", "1 to 31"),
        ("255.255.255.256", "octet 4 is 256"),
    ],
)
def test_a_wrong_mask_is_told_why(text, complaint):
    with pytest.raises(AddressError, match=complaint):
        parse_mask(text)


@given(addresses, st.integers(1, 30))
def test_network_and_broadcast_numbers_are_no_hosts(address, prefix):
    network = IPv4Network((address, prefix), strict=False)
    if not 1 <= network[0].packed[0] <= 223 or network[0].packed[0] == 127:
        return
    for number, what in ((network[0], "network number"), (network[-1], "broadcast address")):
        if number.packed[0] in (0, 127) or number.packed[0] > 223:
            continue
        with pytest.raises(AddressError, match=what):
            parse_interface(f"{number}/{prefix}")
    usable = hosts(network)
    assert network[0] not in usable
    assert network[-1] not in usable
    assert len(usable) == network.num_addresses - 2


@pytest.mark.parametrize(
    "text", ["0.1.2.3/8", "127.0.0.1/8", "224.0.0.1/24", "255.255.255.255/24", "240.0.0.1/24"]
)
def test_addresses_that_no_device_has(text):
    with pytest.raises(AddressError):
        parse_interface(text)


def test_both_ends_of_a_point_to_point_subnet_are_hosts():
    # RFC 3021: a /31 has two hosts and neither network nor broadcast number.
    for text in ("10.61.20.2/31", "10.61.20.3/31"):
        check_host(parse_interface(text))


def test_a_subnet_with_host_bits_names_the_one_meant():
    assert parse_subnet("10.61.20.0/255.255.255.0") == IPv4Network("10.61.20.0/24")
    with pytest.raises(AddressError, match="write the subnet as 10"):
        parse_subnet("10.61.20.7/24")


@pytest.mark.parametrize(
    ("text", "first", "last"),
    [
        ("10.61.20.0/24", "10.61.20.1", "10.61.20.254"),
        ("10.61.20.5-40", "10.61.20.5", "10.61.20.40"),
        ("10.61.20.5 - 10.61.21.4", "10.61.20.5", "10.61.21.4"),
        ("10.61.20.9", "10.61.20.9", "10.61.20.9"),
    ],
)
def test_ranges(text, first, last):
    assert parse_range(text) == AddressRange(IPv4Address(first), IPv4Address(last))


@pytest.mark.parametrize("text", ["10.61.20.40-5", "10.61.20.5-300", "0.0.0.0-5", "x", "1.2.3.4-"])
def test_wrong_ranges(text):
    with pytest.raises(AddressError):
        parse_range(text)


@given(
    st.lists(
        st.tuples(st.integers(0, 60), st.integers(0, 20)).map(
            lambda t: AddressRange(IPv4Address(t[0]), IPv4Address(t[0] + t[1]))
        )
    )
)
def test_joined_ranges_hold_the_same_addresses_each_once(ranges):
    once = joined(ranges)
    listed = [address for span in once for address in span]
    assert listed == sorted({address for span in ranges for address in span})
    for before, after in itertools.pairwise(once):
        assert int(after.first) > int(before.last) + 1
