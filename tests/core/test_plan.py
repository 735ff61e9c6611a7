from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.adapters.own_address import Wanted, candidates, check_own, wanted_for
from portcall.core.address import AddressRange, hosts, parse_mac, parse_mask
from portcall.core.csv_text import TableLine, csv_line
from portcall.core.plan.editing import PlanText
from portcall.core.plan.expected import parse_firmware
from portcall.core.plan.importing import understand
from portcall.core.plan.reading import PlanError, parse_plan
from portcall.core.plan.rows import Plan, Subnet, parse_pair
from portcall.core.plan.synonyms import meaning_of
from portcall.core.plan.unplanned import own_span, unplanned
from portcall.core.trouble import BadInput

HEADER = "name,mac,address,mask,gateway,kind,place,note\n"
LINE_2 = Subnet(IPv4Network("10.61.20.0/24"), IPv4Address("10.61.20.1"))


def read(text, subnets=()):
    data = text if isinstance(text, bytes) else text.encode()
    return parse_plan(data, "plan.csv", subnets)


def problems(text, subnets=()):
    with pytest.raises(PlanError) as caught:
        read(text, subnets)
    return [(p.line, p.column, p.text) for p in caught.value.problems]


@pytest.mark.parametrize(
    ("row", "column", "complaint"),
    [
        ("x,,10.61.20.300,24,,,,", "address", "10.61.20.300: octet 4 is 300; an octet is 0 to 255"),
        ("x,,10.61.20,24,,,,", "address", "has 3 octets; an IPv4 address has 4"),
        ("x,,,24,,,,", "address", "is empty"),
        ("x,,10.61.20.5,255.0.255.0,,,,", "mask", "is not contiguous: octet 3"),
        ("x,,10.61.20.0,24,,,,", "address", "is the network number of 10.61.20.0/24"),
        ("x,,10.61.20.255,24,,,,", "address", "is the broadcast address of 10.61.20.0/24"),
        ("x,,10.61.20.5,24,10.61.21.1,,,", "gateway", "10.61.21.1: is outside 10.61.20.0/24"),
        ("x,,10.61.20.5,24,10.61.20.5,,,", "gateway", "is the device's own address"),
        ("x,,10.61.20.5,24,10.61.20.255,,,", "gateway", "network or broadcast number"),
        ("y,,10.61.20.1,24,,,,", "address", "10.61.20.1: is on line 2 too (first)"),
        ("y,02:5A:1D:20:7F:10,10.61.20.5,24,,,,", "mac", "is on line 2 too (first)"),
        ("FIRST,,10.61.20.5,24,,,,", "name", "FIRST: is on line 2 too (first)"),
        ("x,02-5A-1D-20-7F,10.61.20.5,24,,,,", "mac", "has 10 hex digits; a MAC has 12"),
        (",,10.61.20.5,24,,,,", "name", "is empty"),
        ("10.61.20.5,,10.61.20.5,24,,,,", "name", "would be taken for an address"),
        (
            "x,,10.61.20.5,24,,,,note,over",
            None,
            "has 9 cells, the header 8; 'over' is one cell too many",
        ),
    ],
)
def test_every_broken_rule_is_named_with_line_and_column(row, column, complaint):
    first = "first,02-5A-1D-20-7F-10,10.61.20.1,24,,,,\n"
    ((line, where, text),) = problems(HEADER + first + row + "\n")
    assert (line, where) == (3, column)
    assert complaint in text


def test_all_broken_rules_are_reported_at_once_in_order():
    found = problems(
        HEADER
        + "a,02-5A-1D-20-7F,10.61.20.300,255.0.255.0,10.61.20.x,,,\n"
        + "b,,10.61.20.5,24,,,,\n"
        + "c,,10.61.20.5,24,10.1.1.1,,,\n"
    )
    assert [(line, column) for line, column, _ in found] == [
        (2, "mac"),
        (2, "address"),
        (2, "mask"),
        (2, "gateway"),
        (4, "gateway"),
        (4, "address"),
    ]


@pytest.mark.parametrize(
    ("data", "line", "complaint"),
    [
        (b"", 0, "is empty"),
        (b"\n\n  \n", 0, "is empty"),
        (b"PK\x03\x04\x14\x00\x06\x00", 0, "is a spreadsheet's own file (Excel or the like)"),
        (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1\x00", 0, "is an Excel file of the kind before 2007"),
        (b"\x89PNG\r\n\x1a\n\x00\x00", 0, "is not text"),
        (b"\xff\xfeA", 0, "is not text"),
        (b"mac;mask\n1;2\n", 1, "is missing; the header has mac, mask"),
        (b"name,address,name\nx,10.61.20.5,y\n", 1, "is twice in the header"),
    ],
)
def test_a_file_that_is_no_plan(data, line, complaint):
    found = problems(data)
    assert found[0][0] == line
    assert complaint in found[0][2]


def test_mistakes_of_the_heading_and_of_cells_are_reported_together():
    found = problems("tag,address,mac,mac\nx,10.61.20.300,,\ny,10.61.20.5,,02-11\n")
    assert [(line, column) for line, column, _ in found] == [
        (1, "name"),
        (1, "mac"),
        (2, "address"),
        (3, "mac"),
    ]


def test_spreadsheet_exports_are_read_as_they_come():
    plain = read(HEADER + "Lüfter 1,0277b14c0921,10.61.20.21,255.255.255.0,10.61.20.1,drive,A2,\n")
    export = (
        "Name;Address;Mask;MAC;Gateway;Kind;Place;Note;Order no.\r\n"
        "\r\n"
        'Lüfter 1;10.61.20.21;/24;0277.B14C.0921;10.61.20.1;drive;"A2";;4711\r\n'
    )
    for encoding in ("utf-8-sig", "utf-8", "cp1252", "utf-16"):
        (row,) = read(export.encode(encoding))
        assert row.line == 3
        assert (row.name, row.mac, row.interface, row.gateway, row.place) == (
            "Lüfter 1",
            plain.devices[0].mac,
            IPv4Interface("10.61.20.21/24"),
            IPv4Address("10.61.20.1"),
            "A2",
        )


def test_a_missing_mask_comes_from_the_site_or_is_an_assumption():
    text = "name,address\nx,10.61.20.5\ny,192.0.2.5\n"
    wide = Subnet(IPv4Network("10.61.16.0/20"))
    x, y = read(text, (wide,))
    assert (x.interface.network.prefixlen, x.mask_assumed) == (20, False)
    assert (y.interface.network.prefixlen, y.mask_assumed) == (24, True)


@given(st.binary(max_size=300))
def test_any_bytes_are_a_plan_or_a_plan_error(data):
    for text in (data, HEADER.encode() + data, b"name;address\n" + data):
        try:
            plan = read(text)
            assert plan.devices or not text.strip() or plan.columns
        except PlanError as error:
            assert error.problems
            assert str(error)


def test_a_typed_pair_stands_in_for_the_row_of_its_address_or_mac_or_is_added():
    plan = read(
        HEADER
        + "fan,02-77-B1-4C-0E-53,10.61.20.22,24,,,,\n"
        + "belt,02-77-B1-61-13-A4,10.61.20.23,24,,,,\n"
    )
    corrected = plan.with_pair(parse_pair("02-77-B1-4C-0E-58=10.61.20.22/24"))
    assert corrected.by_name("FAN").mac == parse_mac("02-77-B1-4C-0E-58")
    moved = plan.with_pair(parse_pair("02-77-B1-61-13-A4=10.61.20.33/24"))
    assert str(moved.by_name("belt").address) == "10.61.20.33"
    added = plan.with_pair(parse_pair("02-60-D1-00-5E-01=10.61.20.71", (LINE_2,)))
    assert len(added.devices) == 3
    assert not added.devices[2].mask_assumed
    with pytest.raises(BadInput, match="fan for this MAC and belt for this address"):
        plan.with_pair(parse_pair("02-77-B1-4C-0E-53=10.61.20.23/24"))
    for wrong in ("02-60-D1-00-5E-01", "02-60=10.61.20.71", "02-60-D1-00-5E-01=10.61.20.0/24"):
        with pytest.raises(BadInput):
            parse_pair(wrong)


# Who a device should be.


@pytest.mark.parametrize(
    ("wanted", "said", "agrees"),
    [
        ("5.002", "5.002", True),
        ("5.002", "5.2", True),
        ("5.002", "5.20", False),
        ("5.002-A", "5.002-B", False),
        ("V5 rel", "v5 REL", True),
        (">= 5.002", "5.010", True),
        (">=5.002", "5.1", False),
        ("≥ 5.002", "V6", True),
        ("< 6", "6.0", False),
        ("> 5.9", "5.10", True),
        ("<= 5.2", "beta", False),
    ],
)
def test_a_firmware_is_a_version_or_a_limit_compared_number_by_number(wanted, said, agrees):
    assert parse_firmware(wanted).agrees(said) is agrees


def test_a_limit_without_a_number_is_a_mistake_and_an_identity_is_read_as_people_write():
    ((line, column, text),) = problems("name,address,firmware\nx,10.61.20.5,>= new\n")
    assert (line, column) == (2, "firmware")
    assert "write a version, or a limit with a number" in text
    (row,) = read("name,address,maker,serial,cable\nx,10.61.20.5,Whimbrel  Drives,00A1,7\n")
    assert row.expected.agrees("maker", ["whimbrel drives"])
    assert not row.expected.agrees("serial", ["A1"])
    assert row.extra == (("cable", "7"),)


# The file stays as it is.

CELL = st.text("abÄ;,\" \n'#=\u2028", max_size=6)


@given(
    st.lists(st.tuples(CELL, CELL), min_size=1, max_size=6),
    st.integers(0, 5),
    CELL.filter(str.strip),
    st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]),
    st.sampled_from(["\n", "\r\n"]),
)
def test_whatever_stands_in_a_file_only_the_cell_that_is_changed_changes(
    cells, at, value, codec, end
):
    rows = [("name", "note", "own")]
    rows += [(f"n{n}", note, own) for n, (note, own) in enumerate(cells)]
    text = "".join(csv_line(row, ";", end) for row in rows)
    at %= len(cells)
    line = 1 + "".join(csv_line(row, ";", end) for row in rows[: at + 1]).count("\n")
    changed = PlanText(text.encode(codec)).with_cells(line, {"note": value})
    rows[at + 1] = (rows[at + 1][0], value, rows[at + 1][2])
    assert changed == "".join(csv_line(row, ";", end) for row in rows).encode(codec)
    longer = PlanText(changed).with_rows([{"name": "last", "gateway": "10.61.20.1"}])
    head, _, rest = changed.decode(codec).partition(end)
    assert longer.decode(codec) == f"{head};gateway{end}{rest}last;;;10.61.20.1{end}"


# Tables of other people.


@given(
    st.lists(st.lists(st.text(max_size=10) | st.just("10.61.20.5"), max_size=5), max_size=8),
    st.sampled_from([(), ("Tag", "IP-Adresse", "MAC"), ("Nom", "Adresse IP (2)", "x")]),
)
def test_any_table_is_understood_or_refused(rows, heading):
    table = [TableLine(n, list(cells)) for n, cells in enumerate([heading, *rows], 1)]
    try:
        understood = understand(table, "list", Plan())
    except BadInput as refusal:
        assert str(refusal).startswith("list")
    else:
        assert understood.rows or not any(map(any, rows)) or understood.passed_over
        assert {"name", "address"} <= set(understood.columns.ours)


@pytest.mark.parametrize(
    ("heading", "column"),
    [
        ("IP address", "address"),
        ("IP-Adr.", "address"),
        ("Adresse", "address"),
        ("MAC-Adresse (Etikett)", "mac"),
        ("Masque de sous-réseau", "mask"),
        ("BRAMA DOMYŚLNA", "gateway"),
        ("Subnet\nmask", "mask"),
        ("Anlage", "group"),
        ("N° de série", "serial"),
        ("tag", "name"),
        ("gatway", None),
        ("Kabel-Nr.", None),
    ],
)
def test_headings_are_understood_in_the_words_that_people_use(heading, column):
    assert meaning_of(heading) == column


# Choosing the workstation's address.


@given(
    st.integers(0, 2**32 - 1),
    st.integers(23, 31),
    st.integers(0, 600),
    st.sets(st.integers(0, 600), max_size=600),
    st.none() | st.integers(-5, 600),
)
def test_a_candidate_is_always_usable_and_all_usable_ones_are_tried(base, prefix, at, taken, own):
    network = IPv4Network((base, prefix), strict=False)

    def address(number):
        return IPv4Address((int(network[0]) + number) % 2**32)

    target = address(at % network.num_addresses)
    avoid = {address(number) for number in taken}
    preferred = None if own is None else address(own)
    found = list(candidates(Wanted(network, target, "plan"), preferred, avoid))
    usable = set(network.hosts()) - avoid - {target}
    assert set(found) == usable
    assert len(found) == len(usable)
    if preferred in usable:
        assert found[0] == preferred


def test_the_top_of_the_subnet_is_tried_first_and_never_the_target():
    wanted = Wanted(IPv4Network("10.61.20.0/29"), IPv4Address("10.61.20.4"), "plan")
    avoid = {IPv4Address("10.61.20.2")}
    order = [str(a)[-1] for a in candidates(wanted, None, avoid)]
    assert order == ["6", "5", "3", "1"]
    whole = Wanted(IPv4Network("10.61.20.0/29"), None, "typed")
    assert [str(a)[-1] for a in candidates(whole, None, avoid)] == ["6", "5", "4", "3", "1"]


def test_the_mask_comes_from_the_plan_then_the_site_then_thin_air():
    plan = read(HEADER + "fan,,10.61.20.22,26,,,,\n")
    fan, other = IPv4Address("10.61.20.22"), IPv4Address("10.61.20.99")
    assert wanted_for(fan, plan, (LINE_2,)).network == IPv4Network("10.61.20.0/26")
    assert wanted_for(other, plan, (LINE_2,)).prefix_from == "site"
    assumed = wanted_for(IPv4Address("192.0.2.9"), plan, (LINE_2,))
    assert (assumed.network, assumed.prefix_assumed) == (IPv4Network("192.0.2.0/24"), True)


def test_an_address_typed_by_hand_may_not_be_a_devices_or_the_gateways():
    plan = read(HEADER + "fan,,10.61.20.22,24,,,,\n")
    with pytest.raises(BadInput, match="the plan gives it to fan"):
        check_own(IPv4Interface("10.61.20.22/24"), plan, ())
    with pytest.raises(BadInput, match="gateway"):
        check_own(IPv4Interface("10.61.20.1/24"), Plan(), (LINE_2,))
    check_own(IPv4Interface("10.61.20.2/24"), plan, (LINE_2,))


def test_a_sites_gateway_is_every_devices_but_its_own_and_only_where_it_can_be_reached():
    router = IPv4Address("10.61.20.1")
    site = (Subnet(IPv4Network("10.61.20.0/24"), router),)
    text = (
        b"name,address,mask,gateway\nfan,10.61.20.21,,\nrouter,10.61.20.1,,\n"
        b"belt,10.61.20.23,,10.61.20.2\nfar,10.61.20.200,25,\nelse,192.0.2.5,24,192.0.2.1\n"
    )
    plan = parse_plan(text, "plan.csv", site)
    gateways = {row.name: str(row.gateway) for row in plan}
    assert gateways == {
        "fan": "10.61.20.1",
        "router": "None",
        "belt": "10.61.20.2",
        "far": "None",
        "else": "192.0.2.1",
    }
    mac = "02-77-B1-00-00-21"
    # A row that is served elsewhere for once does not take its gateway along.
    moved = Plan((replace(plan.by_name("else"), mac=parse_mac(mac)),)).with_pair(
        parse_pair(f"{mac}=10.61.20.30", site)
    )
    assert [row.gateway for row in moved] == [router]
    there = parse_pair(f"{mac}=203.0.113.9/24", site)
    assert [row.gateway for row in moved.with_pair(there)] == [None]


@pytest.mark.parametrize(
    ("cell", "prefix"),
    [
        ("10.61.20.21", None),
        ("10.61.20.21/26", 26),
        ("10.61.20.21 / 255.255.255.0", 24),
        ("10.61.20.21 (255.255.255.192)", 26),
        ("192.168.1.10/16", 16),
    ],
)
def test_what_is_shown_of_a_table_is_what_is_written(cell, prefix):
    table = [TableLine(1, ["Name", "IP address"]), TableLine(2, ["fan", cell])]
    (row,) = understand(table, "list", Plan()).rows
    shown = row.row.interface.network.prefixlen
    assert (shown, row.row.mask_assumed) == (prefix or 24, prefix is None)
    written = row.cells.get("mask", "")
    assert bool(written) is (prefix is not None)
    assert not written or parse_mask(written) == shown


@pytest.mark.parametrize("cell", ["10.61.20.21 (2)", "10.61.20.21 8", "10.61.20.21 24"])
def test_a_number_behind_an_address_is_no_mask_without_its_slash(cell):
    with pytest.raises(PlanError, match="behind the address"):
        understand(
            [TableLine(1, ["Name", "IP address"]), TableLine(2, ["fan", cell])], "list", Plan()
        )


@pytest.mark.parametrize(
    ("own", "networks", "meant"),
    [
        ([], ["10.61.20.0/24"], "10.61.20.0/24"),
        (["10.61.30.9/24"], ["10.61.20.0/24", "10.61.30.0/24"], "10.61.30.0/24"),
        (["10.61.30.9/24"], [], "10.61.30.0/24"),
        (["10.61.30.9/24"], ["10.61.20.0/24"], "10.61.20.0/24"),
        ([], ["10.61.20.0/24", "10.61.30.0/24"], "free 10.61.20.0/24"),
        (["10.61.30.9/24", "10.61.20.9/24"], [], "free 10.61.20.0/24"),
        ([], [], "free SUBNET"),
    ],
)
def test_the_subnet_for_new_numbers_is_the_sites_or_is_asked_for(own, networks, meant):
    here = [IPv4Interface(each) for each in own]
    known = [IPv4Network(each) for each in networks]
    if meant.startswith("free"):
        with pytest.raises(BadInput, match=f"portcall {meant}$"):
            own_span(here, known)
    else:
        assert own_span(here, known) == hosts(IPv4Network(meant))


@given(st.sets(st.integers(0, 600), max_size=600), st.integers(23, 32))
def test_a_new_number_is_none_to_avoid_and_no_edge_of_its_subnet(avoided, prefix):
    base = int(IPv4Address("10.61.20.0"))
    avoid = {IPv4Address(base + number) for number in avoided}
    network = IPv4Network((base, prefix))
    span = AddressRange(IPv4Address(base), IPv4Address(base + 511))
    found = list(unplanned(span, [network], avoid))
    edges = {network[0], network[-1]} if prefix < 31 else set()
    assert found == sorted({*span} - avoid - edges)
